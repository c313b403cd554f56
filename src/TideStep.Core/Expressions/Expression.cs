using System.Collections.Immutable;

namespace TideStep.Core.Expressions;

/// <summary>A parsed expression over readings; the text is kept for messages.</summary>
public sealed record Expression(string Text, Term Root)
{
    /// <summary>Every reading the expression asks for.</summary>
    public IEnumerable<Reference> References => Collect(Root);

    private static IEnumerable<Reference> Collect(Term term) => term switch
    {
        ReferenceTerm r => [r.Reference],
        Operation o => Collect(o.Left).Concat(Collect(o.Right)),
        Negation n => Collect(n.Inner),
        _ => [],
    };

    public override string ToString() => Text;
}

/// <summary>A reading by name, arguments and field: <c>package("relay").version</c>.</summary>
public sealed record Reference(string Name, ImmutableArray<string> Arguments, string? Field)
{
    /// <summary>One text for one reading, as written in an expression.</summary>
    public string Key { get; } = Name + (Arguments.IsDefaultOrEmpty ? "" : "(" + string.Join(", ", Arguments.Select(a => $"\"{a}\"")) + ")") + (Field is null ? "" : "." + Field);

    public bool Equals(Reference? other) => other?.Key == Key;

    public override int GetHashCode() => Key.GetHashCode(StringComparison.Ordinal);

    public override string ToString() => Key;
}

/// <summary>A node of the expression tree; the offset is where it begins in the text, from 0.</summary>
public abstract record Term(int Offset);

public sealed record Literal(Value Value, int Offset) : Term(Offset);

public sealed record ReferenceTerm(Reference Reference, int Offset) : Term(Offset);

/// <summary>An operation: or, and, =, !=, &lt;, &lt;=, &gt;, &gt;=, in, +, -, *, /.</summary>
public sealed record Operation(string Sign, Term Left, Term Right, int Offset) : Term(Offset);

/// <summary><c>not x</c>, or <c>-x</c> for numbers.</summary>
public sealed record Negation(bool Logical, Term Inner, int Offset) : Term(Offset);
