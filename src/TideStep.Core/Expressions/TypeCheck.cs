namespace TideStep.Core.Expressions;

/// <summary>Finds unknown readings and operations between values that do not fit, before anything runs.</summary>
public static class TypeCheck
{
    /// <summary>A mistake in an expression and the offset, from 0, where it lies.</summary>
    public sealed record Mistake(string What, int Offset);

    /// <summary>Checks an expression whose result must be true or false.</summary>
    /// <param name="expression">The expression.</param>
    /// <param name="kindOf">The kind of a reading, or null where it is not known.</param>
    public static IReadOnlyList<Mistake> Check(Expression expression, Func<Reference, ValueKind?> kindOf)
    {
        var mistakes = new List<Mistake>();
        var kind = KindOf(expression.Root, kindOf, mistakes);
        if (mistakes.Count == 0 && kind is not (ValueKind.Flag or ValueKind.Missing))
            mistakes.Add(
                new Mistake($"this is a {Name(kind)}, not something that is true or false", expression.Root.Offset)
            );
        return mistakes;
    }

    private static ValueKind KindOf(Term term, Func<Reference, ValueKind?> kindOf, List<Mistake> mistakes)
    {
        switch (term)
        {
            case Literal literal:
                return literal.Value.Kind;
            case ReferenceTerm reference:
                if (kindOf(reference.Reference) is { } known)
                    return known;
                mistakes.Add(new Mistake($"the reading '{reference.Reference.Key}' is not declared", reference.Offset));
                return ValueKind.Missing;
            case Negation not:
                var inner = KindOf(not.Inner, kindOf, mistakes);
                if (not.Logical && inner is not (ValueKind.Flag or ValueKind.Missing))
                    mistakes.Add(
                        new Mistake($"'not' needs something that is true or false, not a {Name(inner)}", not.Offset)
                    );
                return not.Logical ? ValueKind.Flag : inner;
            case Operation op:
                return OfOperation(op, KindOf(op.Left, kindOf, mistakes), KindOf(op.Right, kindOf, mistakes), mistakes);
            case Aggregate aggregate:
                return OfAggregate(aggregate, kindOf, mistakes);
            default:
                return ValueKind.Missing;
        }
    }

    private static ValueKind OfAggregate(
        Aggregate aggregate,
        Func<Reference, ValueKind?> kindOf,
        List<Mistake> mistakes
    )
    {
        if (
            aggregate.Where is { } where
            && KindOf(where, kindOf, mistakes) is var which and not (ValueKind.Flag or ValueKind.Missing)
        )
            mistakes.Add(
                new Mistake($"'where' needs something that is true or false, not a {Name(which)}", where.Offset)
            );
        if (aggregate.Inner is not { } inner)
            return ValueKind.Count;
        var kind = KindOf(inner, kindOf, mistakes);
        if (aggregate.Function == Aggregate.Alike)
            return ValueKind.Flag;
        if (
            kind is not (ValueKind.Flag or ValueKind.Text)
            && !(aggregate.Function == "sum" && kind is ValueKind.Date or ValueKind.Version)
        )
            return kind;
        mistakes.Add(new Mistake($"there is no {aggregate.Function} of a {Name(kind)}", aggregate.Offset));
        return ValueKind.Missing;
    }

    private static ValueKind OfOperation(Operation op, ValueKind left, ValueKind right, List<Mistake> mistakes)
    {
        var unknown = left == ValueKind.Missing || right == ValueKind.Missing;
        switch (op.Sign)
        {
            case "and" or "or":
                if (!unknown && (left != ValueKind.Flag || right != ValueKind.Flag))
                    mistakes.Add(new Mistake($"'{op.Sign}' joins two things that are true or false", op.Offset));
                return ValueKind.Flag;
            case "in":
                if (!unknown && (left is not (ValueKind.Version or ValueKind.Text) || right != ValueKind.Text))
                    mistakes.Add(new Mistake("'in' asks whether a version lies in a range written as text", op.Offset));
                return ValueKind.Flag;
            case "+" or "-" or "*" or "/":
                if (unknown)
                    return ValueKind.Missing;
                if (left == ValueKind.Date && op.Sign == "-")
                    return right == ValueKind.Date ? ValueKind.Time : ValueKind.Date;
                if (op.Sign is "*" or "/" && right is ValueKind.Count or ValueKind.Share)
                    return left;
                if (op.Sign == "*" && left is ValueKind.Count or ValueKind.Share)
                    return right;
                if (left == right)
                    return op.Sign == "/" ? ValueKind.Count : left;
                mistakes.Add(
                    new Mistake($"a {Name(left)} and a {Name(right)} do not go together in '{op.Sign}'", op.Offset)
                );
                return ValueKind.Missing;
        }
        var versions =
            left == ValueKind.Version && right is ValueKind.Text or ValueKind.Version
            || right == ValueKind.Version && left == ValueKind.Text;
        if (!unknown && left != right && !versions)
            mistakes.Add(new Mistake($"a {Name(left)} can't be compared with a {Name(right)}", op.Offset));
        return ValueKind.Flag;
    }

    private static string Name(ValueKind kind) =>
        kind switch
        {
            ValueKind.Flag => "truth value",
            ValueKind.Bytes => "size",
            _ => kind.ToString().ToLowerInvariant(),
        };
}
