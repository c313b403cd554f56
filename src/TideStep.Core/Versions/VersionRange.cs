using System.Collections.Immutable;

namespace TideStep.Core.Versions;

/// <summary>A set of versions written as text: alternatives of bounds, prefixes and exact labels (3-planning,
/// Versions).</summary>
public sealed class VersionRange
{
    private readonly ImmutableArray<ImmutableArray<Term>> _alternatives;

    private VersionRange(string text, ImmutableArray<ImmutableArray<Term>> alternatives) =>
        (Text, _alternatives) = (text, alternatives);

    /// <summary>The range as written.</summary>
    public string Text { get; }

    public override string ToString() => Text;

    /// <summary>The range of every version, written <c>*</c>.</summary>
    public static readonly VersionRange Any = new("*", ImmutableArray.Create(ImmutableArray<Term>.Empty));

    private enum Op
    {
        Below,
        AtMost,
        Above,
        AtLeast,
        Equal,
        Prefix,
    }

    private sealed record Term(Op Op, Version Bound);

    /// <summary>A range that holds one version and nothing else, not even the same with other trailing zeros.</summary>
    public static VersionRange Only(Version version) =>
        new($"={version.Label}", ImmutableArray.Create(ImmutableArray.Create(new Term(Op.Equal, version))))
        {
            _strict = true,
        };

    private bool _strict;

    /// <summary>Reads a range; null and a reason where it can't.</summary>
    public static VersionRange? TryParse(string text, VersionScheme scheme, out string? reason)
    {
        reason = null;
        if (text.Trim().StartsWith("vers:", StringComparison.OrdinalIgnoreCase))
            return VersNotation.TryParse(text.Trim(), scheme, out reason);
        var alternatives = ImmutableArray.CreateBuilder<ImmutableArray<Term>>();
        foreach (var alternative in text.Split("||"))
        {
            if (ReadAlternative(alternative, scheme, out reason) is not { } terms)
                return null;
            alternatives.Add(terms);
        }
        return new VersionRange(text.Trim(), alternatives.ToImmutable());
    }

    private static ImmutableArray<Term>? ReadAlternative(string text, VersionScheme scheme, out string? reason)
    {
        var pieces = new List<(string Sign, string Label)>();
        foreach (var word in text.Split((char[]?)null, StringSplitOptions.RemoveEmptyEntries))
        {
            var sign = word.TakeWhile(c => c is '<' or '>' or '=').Count() is var n && n > 0 ? word[..n] : "";
            // A word that does not begin with an operator belongs to the label before it: labels may hold spaces.
            if (sign.Length == 0 && pieces.Count > 0)
                pieces[^1] = (pieces[^1].Sign, $"{pieces[^1].Label} {word}".Trim());
            else
                pieces.Add((sign, word[sign.Length..]));
        }
        reason = pieces.Count == 0 ? "an empty range; write * for every version" : null;
        if (reason is not null)
            return null;
        if (pieces is [("", "*")])
            return [];
        var terms = ImmutableArray.CreateBuilder<Term>();
        foreach (var (sign, label) in pieces)
        {
            if (ReadTerm(sign, label, scheme, out reason) is not { } term)
                return null;
            terms.Add(term);
        }
        return terms.ToImmutable();
    }

    private static Term? ReadTerm(string sign, string label, VersionScheme scheme, out string? reason)
    {
        reason = null;
        if (label.Length == 0)
        {
            reason = $"no version after '{sign}'";
            return null;
        }
        Op? op = sign switch
        {
            "" or "=" or "==" => Op.Equal,
            "<" => Op.Below,
            "<=" => Op.AtMost,
            ">" => Op.Above,
            ">=" => Op.AtLeast,
            _ => null,
        };
        if (op is null)
        {
            reason = $"'{sign}' is no operator; known are < <= > >= =";
            return null;
        }
        if (op == Op.Equal && label.Length > 2 && label[^1] is 'x' or 'X' && !char.IsLetterOrDigit(label[^2]))
        {
            var stem =
                scheme.Kind == SchemeKind.Listed
                    ? VersionScheme.Dotted.TryParse(label[..^2])
                    : scheme.TryParse(label[..^2]);
            if (stem is not null)
                return new Term(Op.Prefix, stem);
        }
        if (scheme.TryParse(label) is { } bound)
            return new Term(op.Value, bound);
        reason = $"'{label}' is no version by this product's scheme";
        return null;
    }

    internal static VersionRange FromTerms(
        string text,
        IEnumerable<IEnumerable<(string Sign, Version Bound)>> alternatives
    ) =>
        new(
            text,
            [
                .. alternatives.Select(a =>
                    a.Select(t => new Term(
                            t.Sign switch
                            {
                                "<" => Op.Below,
                                "<=" => Op.AtMost,
                                ">" => Op.Above,
                                ">=" => Op.AtLeast,
                                _ => Op.Equal,
                            },
                            t.Bound
                        ))
                        .ToImmutableArray()
                ),
            ]
        );

    /// <summary>Whether the range holds <paramref name="version"/>.</summary>
    /// <param name="version">A version of the scheme the range was read with.</param>
    /// <param name="isRelease">Tells whether the product has a release written so: then <c>=6.1</c> does not find
    /// 6.1.0.</param>
    public bool Contains(Version version, Func<Version, bool>? isRelease = null)
    {
        foreach (var terms in _alternatives)
        {
            var all = true;
            foreach (var term in terms)
                all = all && Holds(term, version, isRelease);
            if (all)
                return true;
        }
        return false;
    }

    /// <summary>Whether it holds <paramref name="version"/> and would hold any later one: nothing bounds it
    /// above.</summary>
    public bool IsOpenAbove(Version version, Func<Version, bool>? isRelease = null) =>
        _alternatives.Any(terms => terms.All(t => t.Op is Op.Above or Op.AtLeast && Holds(t, version, isRelease)));

    /// <summary>The same range with nothing that bounds it above; null where nothing does. What names one version or
    /// a line begins there and goes on.</summary>
    public VersionRange? WithoutUpperBound()
    {
        var lifted = _alternatives
            .Select(terms =>
                terms
                    .Where(t => t.Op is not (Op.Below or Op.AtMost))
                    .Select(t => t.Op is Op.Equal or Op.Prefix ? t with { Op = Op.AtLeast } : t)
                    .ToImmutableArray()
            )
            .ToImmutableArray();
        return lifted.Zip(_alternatives).All(p => p.First.SequenceEqual(p.Second))
            ? null
            : new VersionRange($"{Text}, or later", lifted);
    }

    private bool Holds(Term term, Version version, Func<Version, bool>? isRelease) =>
        term.Op switch
        {
            Op.Below => version < term.Bound && !EarlyOf(version, term.Bound),
            Op.AtMost => version <= term.Bound,
            Op.Above => version > term.Bound && !EarlyOf(version, term.Bound),
            Op.AtLeast => version >= term.Bound && !EarlyOf(version, term.Bound),
            Op.Prefix => version.Split.StartsWith(term.Bound.Split.Parts),
            _ => version.Equals(term.Bound)
                || (!_strict && SameButForZeros(version, term.Bound) && !(isRelease?.Invoke(term.Bound) ?? false)),
        };

    private static bool EarlyOf(Version version, Version bound) =>
        !bound.Scheme.IsEarly(bound) && bound.Scheme.IsEarlyOf(version, bound);

    private static bool SameButForZeros(Version version, Version bound) =>
        version.Key is DottedKey v
        && bound.Key is DottedKey b
        && v.After.SequenceEqual(b.After)
        && v.WithoutTrailingZeros.SequenceEqual(b.WithoutTrailingZeros);
}
