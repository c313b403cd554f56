using System.Collections.Immutable;
using TideStep.Core.Versions;

namespace TideStep.Core.Expressions;

/// <summary>One number an evaluation rested on.</summary>
public sealed record Used(string Reference, string Value);

/// <summary>A comparison that does not hold: what was found, what was needed, and for numbers by how much it is
/// short.</summary>
public sealed record Gap(string Found, string Needed, Value? Short)
{
    /// <summary>Whether more was found than may be, and not less than is needed.</summary>
    public bool TooMuch { get; init; }

    /// <summary>Whether things were counted, not measured.</summary>
    public bool IsCount { get; init; }

    /// <summary>The gap in words: what is needed, what there is, and the difference in its direction.</summary>
    public override string ToString()
    {
        if (Short is not { } by)
            return $"needs {Needed}, has {Found}";
        // Written shortly the two may look the same.
        if (Needed == Found || Needed.EndsWith($" {Found}", StringComparison.Ordinal))
            return $"needs {Needed}, has {by} {(TooMuch ? "more" : "less")}";
        var over = IsCount ? "too many" : "too much";
        return $"needs {Needed}, has {Found}: {by} {(TooMuch ? over : "short")}";
    }
}

/// <summary>What an expression came to, with every reading it used. <c>Open</c> where a reading was missing or did not
/// fit.</summary>
public sealed record Evaluation(Value Value, bool Open, ImmutableArray<Used> Readings)
{
    /// <summary>What was found, what was needed and by how much it falls short, where a comparison did not
    /// hold.</summary>
    public Gap? Gap { get; init; }

    /// <summary>True only if the expression holds on readings that were all there.</summary>
    public bool Holds => !Open && Value.IsTrue;

    /// <summary>The readings in words: <c>lag = 3 MiB, state = "streaming"</c>.</summary>
    public string Explain => string.Join(", ", Readings.Select(r => $"{r.Reference} = {r.Value}"));
}

/// <summary>Evaluates expressions; a missing reading leaves the result open unless the rest decides it.</summary>
public static class Evaluator
{
    /// <param name="expression">The expression.</param>
    /// <param name="look">The reading of that name, or null.</param>
    /// <param name="members">The same for each member that <c>members</c> stands for.</param>
    /// <param name="names">Who those members are, in their order, to tell where they differ.</param>
    public static Evaluation Evaluate(
        Expression expression,
        Func<Reference, Value?> look,
        IReadOnlyList<Func<Reference, Value?>>? members = null,
        IReadOnlyList<string>? names = null
    )
    {
        var used = new List<Used>();
        var context = new Context(expression.Text, members ?? [], names ?? []);
        var value = Eval(expression.Root, look, used, context);
        return new Evaluation(value, value.Kind == ValueKind.Missing, [.. used.DistinctBy(u => u.Reference)])
        {
            Gap = value.IsTrue ? null : GapOf(expression.Root, look, context),
        };
    }

    /// <summary>Whether an expression holds, without telling by which numbers: for thousands of members of which most
    /// do.</summary>
    public static bool Holds(
        Expression expression,
        Func<Reference, Value?> look,
        IReadOnlyList<Func<Reference, Value?>>? members = null
    ) => Eval(expression.Root, look, null, new Context(expression.Text, members ?? [], [])).IsTrue;

    private sealed record Context(
        string Text,
        IReadOnlyList<Func<Reference, Value?>> Members,
        IReadOnlyList<string> Names
    )
    {
        public string Part(Aggregate aggregate) => Text[aggregate.Offset..aggregate.End];
    }

    // The comparison that does not hold, in its numbers; of several the first.
    private static Gap? GapOf(Term term, Func<Reference, Value?> look, Context context)
    {
        if (term is Aggregate { Function: Aggregate.Alike } alike)
            return Over(alike, null, context) is { Kind: ValueKind.Flag, IsTrue: false }
                ? new Gap(Differing(alike, context), "the same of all", null)
                : null;
        if (term is not Operation op)
            return null;
        if (op.Sign is "or")
        {
            // Where one of two would do, the one that is told in numbers says most.
            Gap?[] both = [GapOf(op.Left, look, context), GapOf(op.Right, look, context)];
            return both.FirstOrDefault(g => g?.Short is not null) ?? both[0] ?? both[1];
        }
        if (op.Sign is "and")
            return (Eval(op.Left, look, null, context).IsTrue ? null : GapOf(op.Left, look, context))
                ?? (Eval(op.Right, look, null, context).IsTrue ? null : GapOf(op.Right, look, context));
        if (op.Sign is "+" or "-" or "*" or "/")
            return null;
        var (left, right) = (Eval(op.Left, look, null, context), Eval(op.Right, look, null, context));
        if (left.Kind == ValueKind.Missing || right.Kind == ValueKind.Missing)
            return null;
        var by =
            left.IsNumber && right.IsNumber && op.Sign is not "in"
                ? Math.Abs(left.Number - right.Number)
                : (double?)null;
        return new Gap(
            left.ToString(),
            (
                (
                    op.Sign switch
                    {
                        "in" => "in",
                        "=" => "",
                        "!=" => "other than",
                        ">=" => "at least",
                        "<=" => "at most",
                        ">" => "more than",
                        _ => "less than",
                    }
                ) + $" {right}"
            ).Trim(),
            by is { } number ? left with { Number = number } : null
        )
        {
            TooMuch = by is not null && left.Number > right.Number,
            IsCount = left.Kind == ValueKind.Count,
        };
    }

    private static Value Over(Aggregate aggregate, List<Used>? used, Context context)
    {
        var values = new List<Value>();
        foreach (var look in context.Members)
        {
            if (aggregate.Where is { } where)
            {
                var which = Eval(where, look, null, context);
                if (which.Kind != ValueKind.Flag)
                    return Value.Missing; // of a member that is not known nothing can be counted
                if (!which.IsTrue)
                    continue;
            }
            var value = aggregate.Inner is { } inner ? Eval(inner, look, null, context) : Value.Of(1);
            if (value.Kind == ValueKind.Missing)
                return Value.Missing;
            values.Add(value);
        }
        var found = aggregate.Function switch
        {
            Aggregate.Alike => Value.Of(values.All(v => Compare(v, values[0]) == 0)),
            "count" => Value.Of(values.Count),
            "sum" => values.Count == 0 ? Value.Of(0) : values[0] with { Number = values.Sum(v => v.Number) },
            _ when values.Count == 0 => Value.Missing,
            "min" => values.Aggregate((a, b) => Compare(b, a) < 0 ? b : a),
            _ => values.Aggregate((a, b) => Compare(b, a) > 0 ? b : a),
        };
        used?.Add(
            new Used(
                context.Part(aggregate),
                aggregate.Function == Aggregate.Alike && !found.IsTrue
                    ? Differing(aggregate, context)
                    : found.ToString()
            )
        );
        return found;
    }

    // Each value with those that have it, most first.
    private static string Differing(Aggregate alike, Context context) =>
        string.Join(
            ", ",
            context
                .Members.Select(
                    (look, i) =>
                        (
                            Value: Eval(alike.Inner!, look, null, context).ToString(),
                            Name: i < context.Names.Count ? context.Names[i] : null,
                            Asked: alike.Where is not { } where || Eval(where, look, null, context).IsTrue
                        )
                )
                .Where(m => m.Asked)
                .GroupBy(m => m.Value)
                .OrderByDescending(g => g.Count())
                .ThenBy(g => g.Key, StringComparer.Ordinal)
                .Select(g => g.Key + Who([.. g.Select(m => m.Name).OfType<string>()]))
        );

    private static string Who(string[] names) =>
        names.Length == 0
            ? ""
            : $" ({string.Join(", ", names.Take(MostNamed))}"
                + (names.Length > MostNamed ? $" and {names.Length - MostNamed} more)" : ")");

    private const int MostNamed = 3;

    private static Value Eval(Term term, Func<Reference, Value?> look, List<Used>? used, Context context)
    {
        switch (term)
        {
            case Literal literal:
                return literal.Value;
            case ReferenceTerm { Reference: var reference }:
                var found = look(reference) ?? Value.Missing;
                used?.Add(new Used(reference.Key, found.ToString()));
                return found;
            case Negation { Logical: true } not:
                var inner = Eval(not.Inner, look, used, context);
                return inner.Kind == ValueKind.Flag ? Value.Of(!inner.IsTrue) : Value.Missing;
            case Negation minus:
                var number = Eval(minus.Inner, look, used, context);
                return number.IsNumber ? number with { Number = -number.Number } : Value.Missing;
            case Operation operation:
                return Operate(
                    operation,
                    Eval(operation.Left, look, used, context),
                    Eval(operation.Right, look, used, context)
                );
            case Aggregate aggregate:
                return Over(aggregate, used, context);
            default:
                return Value.Missing;
        }
    }

    private static Value Operate(Operation op, Value left, Value right)
    {
        switch (op.Sign)
        {
            case "and":
                if (Is(left, false) || Is(right, false))
                    return Value.False;
                return Is(left, true) && Is(right, true) ? Value.True : Value.Missing;
            case "or":
                if (Is(left, true) || Is(right, true))
                    return Value.True;
                return Is(left, false) && Is(right, false) ? Value.False : Value.Missing;
        }
        if (left.Kind == ValueKind.Missing || right.Kind == ValueKind.Missing)
            return Value.Missing;
        switch (op.Sign)
        {
            case "in":
                if (right.Kind != ValueKind.Text)
                    return Value.Missing;
                var scheme = left.Version?.Scheme ?? VersionScheme.Dotted;
                var version = left.Version ?? scheme.TryParse(left.Text);
                return version is not null && VersionRange.TryParse(right.Text, scheme, out _) is { } range
                    ? Value.Of(range.Contains(version))
                    : Value.Missing;
            case "+" or "-" or "*" or "/":
                return Arithmetic(op.Sign, left, right);
        }
        if (Compare(left, right) is not { } order)
            return Value.Missing;
        return Value.Of(
            op.Sign switch
            {
                "=" => order == 0,
                "!=" => order != 0,
                "<" => order < 0,
                "<=" => order <= 0,
                ">" => order > 0,
                _ => order >= 0,
            }
        );
    }

    private static bool Is(Value value, bool flag) => value.Kind == ValueKind.Flag && value.IsTrue == flag;

    private static Value Arithmetic(string sign, Value left, Value right)
    {
        if (left.Kind == ValueKind.Date && right.Kind == ValueKind.Date && sign == "-")
            return Value.Of((left.Number - right.Number) * 86400, ValueKind.Time);
        if (left.Kind == ValueKind.Date && right.Kind == ValueKind.Time && sign is "+" or "-")
            return left with { Number = left.Number + (sign == "+" ? 1 : -1) * Math.Floor(right.Number / 86400) };
        if (!left.IsNumber || !right.IsNumber)
            return Value.Missing;
        switch (sign)
        {
            case "+" when left.Kind == right.Kind:
                return left with { Number = left.Number + right.Number };
            case "-" when left.Kind == right.Kind:
                return left with { Number = left.Number - right.Number };
            case "*" when right.Kind is ValueKind.Count or ValueKind.Share:
                return left with { Number = left.Number * right.Number };
            case "*" when left.Kind is ValueKind.Count or ValueKind.Share:
                return right with { Number = left.Number * right.Number };
            case "/" when right.Number != 0 && left.Kind == right.Kind:
                return Value.Of(left.Number / right.Number);
            case "/" when right.Number != 0 && right.Kind == ValueKind.Count:
                return left with { Number = left.Number / right.Number };
            default:
                return Value.Missing;
        }
    }

    private static int? Compare(Value left, Value right)
    {
        if (left.Kind == ValueKind.Version || right.Kind == ValueKind.Version)
        {
            var scheme = (left.Version ?? right.Version)!.Scheme;
            var (a, b) = (left.Version ?? scheme.TryParse(left.Text), right.Version ?? scheme.TryParse(right.Text));
            return a is null || b is null ? null : a.CompareTo(b);
        }
        if (left.Kind == ValueKind.Text && right.Kind == ValueKind.Text)
            return string.CompareOrdinal(left.Text, right.Text);
        return left.Kind == right.Kind ? left.Number.CompareTo(right.Number) : null;
    }
}
