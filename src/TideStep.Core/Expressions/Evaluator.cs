using System.Collections.Immutable;
using TideStep.Core.Versions;

namespace TideStep.Core.Expressions;

/// <summary>One number an evaluation rested on.</summary>
public sealed record Used(string Reference, string Value);

/// <summary>What an expression came to, with every reading it used. <c>Open</c> where a reading was missing or did not fit.</summary>
public sealed record Evaluation(Value Value, bool Open, ImmutableArray<Used> Readings)
{
    /// <summary>True only if the expression holds on readings that were all there.</summary>
    public bool Holds => !Open && Value.IsTrue;

    /// <summary>The readings in words: <c>lag = 3 MiB, state = "streaming"</c>.</summary>
    public string Explain => string.Join(", ", Readings.Select(r => $"{r.Reference} = {r.Value}"));
}

/// <summary>Evaluates expressions; a missing reading leaves the result open unless the rest decides it.</summary>
public static class Evaluator
{
    public static Evaluation Evaluate(Expression expression, Func<Reference, Value?> look)
    {
        var used = new List<Used>();
        var value = Eval(expression.Root, look, used);
        return new Evaluation(value, value.Kind == ValueKind.Missing, [.. used.DistinctBy(u => u.Reference)]);
    }

    private static Value Eval(Term term, Func<Reference, Value?> look, List<Used> used)
    {
        switch (term)
        {
            case Literal literal:
                return literal.Value;
            case ReferenceTerm { Reference: var reference }:
                var found = look(reference) ?? Value.Missing;
                used.Add(new Used(reference.Key, found.ToString()));
                return found;
            case Negation { Logical: true } not:
                var inner = Eval(not.Inner, look, used);
                return inner.Kind == ValueKind.Flag ? Value.Of(!inner.IsTrue) : Value.Missing;
            case Negation minus:
                var number = Eval(minus.Inner, look, used);
                return number.IsNumber ? number with { Number = -number.Number } : Value.Missing;
            case Operation operation:
                return Operate(operation, Eval(operation.Left, look, used), Eval(operation.Right, look, used));
            default:
                return Value.Missing;
        }
    }

    private static Value Operate(Operation op, Value left, Value right)
    {
        switch (op.Sign)
        {
            case "and":
                if (Is(left, false) || Is(right, false)) return Value.False;
                return Is(left, true) && Is(right, true) ? Value.True : Value.Missing;
            case "or":
                if (Is(left, true) || Is(right, true)) return Value.True;
                return Is(left, false) && Is(right, false) ? Value.False : Value.Missing;
        }
        if (left.Kind == ValueKind.Missing || right.Kind == ValueKind.Missing) return Value.Missing;
        switch (op.Sign)
        {
            case "in":
                if (right.Kind != ValueKind.Text) return Value.Missing;
                var scheme = left.Version?.Scheme ?? VersionScheme.Dotted;
                var version = left.Version ?? scheme.TryParse(left.Text);
                return version is not null && VersionRange.TryParse(right.Text, scheme, out _) is { } range ? Value.Of(range.Contains(version)) : Value.Missing;
            case "+" or "-" or "*" or "/":
                return Arithmetic(op.Sign, left, right);
        }
        if (Compare(left, right) is not { } order) return Value.Missing;
        return Value.Of(op.Sign switch { "=" => order == 0, "!=" => order != 0, "<" => order < 0, "<=" => order <= 0, ">" => order > 0, _ => order >= 0 });
    }

    private static bool Is(Value value, bool flag) => value.Kind == ValueKind.Flag && value.IsTrue == flag;

    private static Value Arithmetic(string sign, Value left, Value right)
    {
        if (left.Kind == ValueKind.Date && right.Kind == ValueKind.Date && sign == "-") return Value.Of((left.Number - right.Number) * 86400, ValueKind.Time);
        if (left.Kind == ValueKind.Date && right.Kind == ValueKind.Time && sign is "+" or "-")
            return left with { Number = left.Number + (sign == "+" ? 1 : -1) * Math.Floor(right.Number / 86400) };
        if (!left.IsNumber || !right.IsNumber) return Value.Missing;
        switch (sign)
        {
            case "+" when left.Kind == right.Kind: return left with { Number = left.Number + right.Number };
            case "-" when left.Kind == right.Kind: return left with { Number = left.Number - right.Number };
            case "*" when right.Kind is ValueKind.Count or ValueKind.Share: return left with { Number = left.Number * right.Number };
            case "*" when left.Kind is ValueKind.Count or ValueKind.Share: return right with { Number = left.Number * right.Number };
            case "/" when right.Number != 0 && left.Kind == right.Kind: return Value.Of(left.Number / right.Number);
            case "/" when right.Number != 0 && right.Kind == ValueKind.Count: return left with { Number = left.Number / right.Number };
            default: return Value.Missing;
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
        if (left.Kind == ValueKind.Text && right.Kind == ValueKind.Text) return string.CompareOrdinal(left.Text, right.Text);
        return left.Kind == right.Kind ? left.Number.CompareTo(right.Number) : null;
    }
}
