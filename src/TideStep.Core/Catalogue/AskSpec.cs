using System.Collections.Immutable;
using System.Globalization;
using TideStep.Core.Documents;
using TideStep.Core.Expressions;

namespace TideStep.Core.Catalogue;

/// <summary>How much an answer may change: a share of what it was, or so much in its own unit; no limit where both are
/// null.</summary>
public sealed record Tolerance(double? Share, double? Amount)
{
    public static readonly Tolerance None = new(null, 0);
    public static readonly Tolerance Any = new(null, null);

    /// <summary>Whether a change of that size is borne, from what it was.</summary>
    public bool Bears(double change, double before) =>
        Share is null && Amount is null || change <= Math.Max(Math.Abs(before) * (Share ?? 0), Amount ?? 0) + 1e-9;
}

/// <summary>A question that is asked of every member before the work and after it.</summary>
/// <param name="Id">Its name.</param>
/// <param name="Of">The reading that answers it.</param>
/// <param name="Falls">How far the answer may fall.</param>
/// <param name="Rises">How far it may rise.</param>
/// <param name="List">Whether the answer is a list of things, each on a line or between commas: then new ones count,
/// and gone ones are told.</param>
/// <param name="Within">How long afterwards it may take to come to rest.</param>
/// <param name="Halts">Whether a difference that is not borne halts the run before it closes; else it is told.</param>
public sealed record AskSpec(
    string Id,
    string Of,
    Tolerance Falls,
    Tolerance Rises,
    bool List,
    TimeSpan Within,
    bool Halts
)
{
    /// <summary>The reading that chooses, once and before the work, which objects are looked at; <see cref="Of"/> is
    /// then asked of those, before and after. Null where the question is not of a sample.</summary>
    public string? Keys { get; init; }

    private static readonly TimeSpan UsualWithin = TimeSpan.FromMinutes(5);

    /// <summary>Reads the <c>before-and-after</c> of a product.</summary>
    internal static ImmutableArray<AskSpec> ReadAll(
        Form document,
        ImmutableDictionary<string, Collector> readings,
        Findings findings
    )
    {
        var asks = ImmutableArray.CreateBuilder<AskSpec>();
        foreach (var (id, node, at) in document.Map("before-and-after"))
        {
            Form.CheckId(id, at, "question", findings);
            var form = Form.Open(node is TextNode { Text: "" } ? null : node, $"question {id}", findings, at);
            var of = form.Text("of") ?? id;
            if (KnownReadings.KindOf(new Reference(of, [], null), readings) is null)
                findings.Add(
                    $"question {id}: there is no reading '{of}'",
                    form.Has("of") ? form.PlaceOf("of") : at,
                    Nearest.Hint(of, KnownReadings.Names(readings))
                );
            var both = ReadTolerance(form, "may-differ");
            var (falls, rises) = (
                ReadTolerance(form, "may-fall") ?? both ?? Tolerance.None,
                ReadTolerance(form, "may-rise") ?? both ?? Tolerance.None
            );
            if (form.Text("keys") is { } keys)
            {
                if (KnownReadings.KindOf(new Reference(keys, [], null), readings) is null)
                    findings.Add(
                        $"question {id}: there is no reading '{keys}'",
                        form.PlaceOf("keys"),
                        Nearest.Hint(keys, KnownReadings.Names(readings))
                    );
                if (readings.TryGetValue(of, out var asked) && !asked.TakesKeys)
                    findings.Add(
                        $"question {id}: reading '{of}' does not ask for the keys that are chosen",
                        form.PlaceOf("keys"),
                        "Put {keys} into it, where they belong."
                    );
            }
            else if (readings.TryGetValue(of, out var takes) && takes.TakesKeys)
                findings.Add(
                    $"question {id}: reading '{of}' asks for {{keys}}, and nothing chooses them",
                    at,
                    "Name with 'keys' the reading that chooses them."
                );
            asks.Add(
                new AskSpec(
                    id,
                    of,
                    falls,
                    rises,
                    form.Flag("list"),
                    form.Duration("within") ?? UsualWithin,
                    form.Word("otherwise", "halt", "tell") != "tell"
                )
                {
                    Keys = form.Text("keys"),
                }
            );
            form.Close();
        }
        return asks.ToImmutable();
    }

    private static Tolerance? ReadTolerance(Form form, string key)
    {
        if (form.Text(key) is not { } text)
            return null;
        if (text == "any")
            return Tolerance.Any;
        if (
            text.EndsWith('%')
            && double.TryParse(text[..^1], NumberStyles.Float, CultureInfo.InvariantCulture, out var share)
            && share >= 0
        )
            return new Tolerance(share / 100, null);
        if (Units.TryBytes(text) is { } bytes)
            return new Tolerance(null, bytes);
        if (Durations.TryParse(text) is { } span)
            return new Tolerance(null, span.TotalSeconds);
        if (double.TryParse(text, NumberStyles.Float, CultureInfo.InvariantCulture, out var number) && number >= 0)
            return new Tolerance(null, number);
        form.Findings.Add(
            $"{form.What}: '{key}' must be a share like 5%, an amount like 10, 1 MiB or 2 s, or any, not '{text}'",
            form.PlaceOf(key)
        );
        return null;
    }
}
