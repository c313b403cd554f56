using System.Collections.Immutable;

namespace TideStep.Core.Expressions;

/// <summary>A parsed expression over readings; the text is kept for messages.</summary>
public sealed record Expression(string Text, Term Root)
{
    /// <summary>Every reading the expression asks for.</summary>
    public IEnumerable<Reference> References => Collect(Root);

    /// <summary>Every reading that it asks of a related component's members (<c>related("dunlin").lag</c>): the
    /// product, and the reading.</summary>
    public IEnumerable<(string Product, Reference Reading)> OfRelated =>
        References.Select(r => r.OfRelated).OfType<(string, Reference)>();

    /// <summary>Whether it counts or compares over all members, so that the readings of one do not answer it.</summary>
    public bool AsksOfMore => Holds(Root);

    private static bool Holds(Term term) =>
        term switch
        {
            Aggregate => true,
            Operation o => Holds(o.Left) || Holds(o.Right),
            Negation n => Holds(n.Inner),
            _ => false,
        };

    private static IEnumerable<Reference> Collect(Term term) =>
        term switch
        {
            ReferenceTerm r => [r.Reference],
            Operation o => Collect(o.Left).Concat(Collect(o.Right)),
            Negation n => Collect(n.Inner),
            Aggregate a => (a.Inner is null ? [] : Collect(a.Inner)).Concat(a.Where is null ? [] : Collect(a.Where)),
            _ => [],
        };

    public override string ToString() => Text;
}

/// <summary>A reading by name, arguments and field: <c>package("relay").version</c>.</summary>
public sealed record Reference(string Name, ImmutableArray<string> Arguments, string? Field)
{
    /// <summary>One text for one reading, as written in an expression.</summary>
    public string Key { get; } =
        Name
        + (Arguments.IsDefaultOrEmpty ? "" : "(" + string.Join(", ", Arguments.Select(a => $"\"{a}\"")) + ")")
        + (Field is null ? "" : "." + Field);

    /// <summary>What it asks of a related component's members, with their product; null where it asks nothing of
    /// them.</summary>
    public (string Product, Reference Reading)? OfRelated =>
        Name == "related" && Field is { } reading && !Arguments.IsDefaultOrEmpty
            ? (Arguments[0], new Reference(reading, [], null))
            : null;

    /// <summary>The reading that a key names, as <see cref="Key"/> writes it.</summary>
    public static Reference OfKey(string key)
    {
        var open = key.IndexOf("(\"", StringComparison.Ordinal);
        if (open < 0)
            return new Reference(key, [], null);
        var close = key.LastIndexOf("\")", StringComparison.Ordinal);
        return new Reference(
            key[..open],
            [.. key[(open + 2)..close].Split("\", \"")],
            key.Length > close + 2 ? key[(close + 3)..] : null
        );
    }

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

/// <summary>Something of all members at once: <c>count(members where in-service)</c>, <c>max(lag of members)</c>,
/// <c>alike(character-set)</c>.</summary>
/// <param name="Function">count, sum, min, max, or alike: whether it is the same of all.</param>
/// <param name="Inner">What is summed or compared; null for a count.</param>
/// <param name="Where">Which members take part; null for all.</param>
/// <param name="End">Where it ends in the text.</param>
public sealed record Aggregate(string Function, Term? Inner, Term? Where, int Offset, int End) : Term(Offset)
{
    public const string Alike = "alike";
}
