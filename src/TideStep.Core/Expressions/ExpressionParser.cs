using System.Collections.Immutable;
using System.Globalization;
using Superpower;
using Superpower.Model;
using Superpower.Parsers;
using Superpower.Tokenizers;

namespace TideStep.Core.Expressions;

/// <summary>Reads the expression language that prerequisites, conditions, probes and verifications share.</summary>
public static class ExpressionParser
{
    private enum T
    {
        Number,
        Unit,
        Text,
        Name,
        Sign,
        Open,
        Close,
        Comma,
        Dot,
    }

    private static readonly Tokenizer<T> Tokens = new TokenizerBuilder<T>()
        .Ignore(Span.WhiteSpace)
        .Match(Span.Regex(@"\d+(\.\d+)?"), T.Number)
        .Match(Span.Regex("\"[^\"\\r\\n]*\""), T.Text)
        .Match(Span.Regex(@"[A-Za-z][A-Za-z0-9_]*(-[A-Za-z0-9_]+)*"), T.Name)
        .Match(Span.Regex(@"(?:<=|>=|!=|[<>=+\-*/])"), T.Sign)
        .Match(Character.EqualTo('%'), T.Unit)
        .Match(Character.EqualTo('('), T.Open)
        .Match(Character.EqualTo(')'), T.Close)
        .Match(Character.EqualTo(','), T.Comma)
        .Match(Character.EqualTo('.'), T.Dot)
        .Build();

    private static TokenListParser<T, Token<T>> Word(string word) =>
        Token.EqualTo(T.Name).Where(t => t.ToStringValue() == word, $"'{word}'");

    private static TokenListParser<T, Token<T>> Sign(params string[] signs) =>
        Token.EqualTo(T.Sign).Where(t => signs.Contains(t.ToStringValue()), string.Join(" ", signs));

    private static string Unquoted(Token<T> token) => token.ToStringValue()[1..^1];

    private static readonly TokenListParser<T, Term> Number =
        from number in Token.EqualTo(T.Number)
        from unit in Token
            .EqualTo(T.Unit)
            .Or(Token.EqualTo(T.Name).Where(t => IsUnit(t.ToStringValue()), "a unit"))
            .OptionalOrDefault()
        select (Term)
            new Literal(
                Measure(
                    double.Parse(number.ToStringValue(), CultureInfo.InvariantCulture),
                    unit.HasValue ? unit.ToStringValue() : ""
                ),
                number.Position.Absolute
            );

    private static bool IsUnit(string name) =>
        Units.BytesIn(name) is not null || name is "s" or "min" or "h" or "d" or "days" or "day";

    private static Value Measure(double number, string unit) =>
        unit switch
        {
            "" => Value.Of(number),
            "%" => Value.Of(number / 100, ValueKind.Share),
            "s" => Value.Of(number, ValueKind.Time),
            "min" => Value.Of(number * 60, ValueKind.Time),
            "h" => Value.Of(number * 3600, ValueKind.Time),
            "d" or "day" or "days" => Value.Of(number * 86400, ValueKind.Time),
            _ => Value.Of(number * Units.BytesIn(unit)!.Value, ValueKind.Bytes),
        };

    private static readonly TokenListParser<T, Term> Text =
        from token in Token.EqualTo(T.Text)
        select (Term)new Literal(Value.Of(Unquoted(token)), token.Position.Absolute);

    private static readonly TokenListParser<T, Term> Name =
        from name in Token.EqualTo(T.Name)
        from arguments in (
            from open in Token.EqualTo(T.Open)
            from items in Token.EqualTo(T.Text).ManyDelimitedBy(Token.EqualTo(T.Comma))
            from close in Token.EqualTo(T.Close)
            select items
        ).OptionalOrDefault()
        from fields in (from dot in Token.EqualTo(T.Dot) from part in Token.EqualTo(T.Name) select part).Many()
        select NameTerm(name, arguments, fields);

    private static Term NameTerm(Token<T> name, Token<T>[]? arguments, Token<T>[] fields)
    {
        var text = name.ToStringValue();
        if (arguments is null && fields.Length == 0 && text is "true" or "false")
            return new Literal(Value.Of(text == "true"), name.Position.Absolute);
        // A reading of what is related may itself have a name of two parts: related("dunlin").memory.free.
        return new ReferenceTerm(
            new Reference(
                text,
                [.. (arguments ?? []).Select(Unquoted)],
                fields.Length > 0 ? string.Join('.', fields.Select(f => f.ToStringValue())) : null
            ),
            name.Position.Absolute
        );
    }

    private static readonly TokenListParser<T, Term?> Where = (
        from word in Word("where")
        from which in Parse.Ref(() => Whole!)
        select (Term?)which
    ).OptionalOrDefault();

    private static readonly TokenListParser<T, Term> Count =
        from name in Word("count")
        from open in Token.EqualTo(T.Open)
        from members in Word("members")
        from which in Where
        from close in Token.EqualTo(T.Close)
        select (Term)new Aggregate("count", null, which, name.Position.Absolute, close.Position.Absolute + 1);

    private static readonly TokenListParser<T, Term> Fold =
        from name in Word("sum").Or(Word("min")).Or(Word("max"))
        from open in Token.EqualTo(T.Open)
        from inner in Parse.Ref(() => Sum!)
        from of in Word("of")
        from members in Word("members")
        from which in Where
        from close in Token.EqualTo(T.Close)
        select (Term)
            new Aggregate(name.ToStringValue(), inner, which, name.Position.Absolute, close.Position.Absolute + 1);

    // alike(reading), or alike(reading of members where ...).
    private static readonly TokenListParser<T, Term> SameOfAll =
        from name in Word("alike")
        from open in Token.EqualTo(T.Open)
        from inner in Parse.Ref(() => Sum!)
        from which in (
            from of in Word("of")
            from members in Word("members")
            from which in Where
            select which
        ).OptionalOrDefault()
        from close in Token.EqualTo(T.Close)
        select (Term)new Aggregate(Aggregate.Alike, inner, which, name.Position.Absolute, close.Position.Absolute + 1);

    private static readonly TokenListParser<T, Term> Factor = Number
        .Or(Text)
        .Or(Count.Try())
        .Or(Fold.Try())
        .Or(SameOfAll.Try())
        .Or(
            from open in Token.EqualTo(T.Open)
            from inner in Parse.Ref(() => Whole!)
            from close in Token.EqualTo(T.Close)
            select inner
        )
        .Or(
            from minus in Sign("-")
            from inner in Parse.Ref(() => Factor!)
            select (Term)new Negation(false, inner, minus.Position.Absolute)
        )
        .Or(Name);

    private static TokenListParser<T, Term> Chain(
        TokenListParser<T, Token<T>> sign,
        TokenListParser<T, Term> operand
    ) =>
        Parse.Chain(sign, operand, (op, left, right) =>
            new Operation(op.ToStringValue(), left, right, op.Position.Absolute)
        );

    private static readonly TokenListParser<T, Term> Product = Chain(Sign("*", "/"), Factor);
    private static readonly TokenListParser<T, Term> Sum = Chain(Sign("+", "-"), Product);

    private static readonly TokenListParser<T, Term> Comparison =
        from left in Sum
        from rest in (
            from op in Sign("=", "!=", "<", "<=", ">", ">=").Or(Word("in"))
            from right in Sum
            select (Op: op, Right: right)
        )
            .Select(r => ((Token<T> Op, Term Right)?)r)
            .OptionalOrDefault()
        select rest is { } r ? new Operation(r.Op.ToStringValue(), left, r.Right, r.Op.Position.Absolute) : left;

    private static readonly TokenListParser<T, Term> Not = (
        from not in Word("not")
        from inner in Parse.Ref(() => Not!)
        select (Term)new Negation(true, inner, not.Position.Absolute)
    )
        .Try()
        .Or(Comparison);

    private static readonly TokenListParser<T, Term> And = Chain(Word("and"), Not);
    private static readonly TokenListParser<T, Term> Whole = Chain(Word("or"), And);

    /// <summary>Parses a text; on error null, the reason and the offset from 0 where it lies.</summary>
    public static Expression? TryParse(string text, out string? reason, out int offset)
    {
        (reason, offset) = (null, 0);
        var tokens = Tokens.TryTokenize(text);
        if (!tokens.HasValue)
        {
            (reason, offset) = (
                $"'{(tokens.ErrorPosition.Absolute < text.Length ? text[tokens.ErrorPosition.Absolute] : ' ')}' "
                    + $"is not understood here",
                tokens.ErrorPosition.Absolute
            );
            return null;
        }
        var parsed = Whole.AtEnd().TryParse(tokens.Value);
        if (parsed.HasValue)
            return new Expression(text, parsed.Value);
        offset = parsed.ErrorPosition.HasValue ? parsed.ErrorPosition.Absolute : text.Length;
        reason = parsed.FormatErrorMessageFragment();
        return null;
    }
}
