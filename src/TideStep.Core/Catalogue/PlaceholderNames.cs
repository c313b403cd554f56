using System.Text.RegularExpressions;
using TideStep.Core.Documents;

namespace TideStep.Core.Catalogue;

/// <summary>Checks, when a product is read, that every placeholder of its steps is one that something can bind: a
/// routine that is needed in the night, such as a restore, must not fail on a word.</summary>
internal sealed partial class PlaceholderNames(
    IReadOnlySet<string> noted,
    IReadOnlySet<string> readings,
    IReadOnlySet<string> answers,
    Findings findings
)
{
    private static readonly string[] Plain =
    [
        "jump.to",
        "jump.from",
        "member.node",
        "member.component",
        "member.role",
        "node.address",
        "point.place",
        "point.id",
        "successor.node",
        "successor.address",
    ];

    /// <summary>What a placeholder may be, for people to read.</summary>
    public const string Known =
        "Known: jump.to, jump.from, member.node, member.component, member.role, node.address, point.place, point.id, "
        + "point.name (where a capture is kept), successor.node, successor.address, noted.NAME, reading.NAME, "
        + "trait.NAME, answer.ID, secret.NAME in commands, and on.node, on.address where 'on' names a relation.";

    /// <summary>Every text of an action.</summary>
    /// <param name="elsewhere">Whether the step is done at a related component's node.</param>
    public void Check(StepAction action, string what, Place at, bool elsewhere = false)
    {
        foreach (var (text, where) in TextsOf(action, kept: false, command: action is CommandAction))
        foreach (Match match in Placeholder().Matches(text))
            if (!Binds(match.Groups[1].Value, where with { Elsewhere = elsewhere }))
                findings.Add($"{what}: nothing binds the placeholder {match.Value}", at, Known);
    }

    /// <summary>The texts within an expression.</summary>
    /// <param name="elsewhere">Whether its step is done at a related component's node.</param>
    public void Check(Expressions.Expression expression, string what, Place? at, bool elsewhere)
    {
        foreach (Match match in Placeholder().Matches(expression.Text))
            if (!Binds(match.Groups[1].Value, new Where(false, false, elsewhere)))
                findings.Add($"{what}: nothing binds the placeholder {match.Value}", at, Known);
    }

    private readonly record struct Where(bool Kept, bool Command, bool Elsewhere = false);

    private bool Binds(string name, Where where)
    {
        var dot = name.IndexOf('.');
        var rest = name[(dot + 1)..];
        return name[..dot] switch
        {
            "point" when name == "point.name" => where.Kept,
            "noted" => noted.Contains(rest),
            "reading" => readings.Contains(rest),
            "answer" => answers.Contains(rest),
            "secret" => where.Command,
            "on" => where.Elsewhere && rest is "node" or "address",
            "trait" => true,
            _ => Plain.Contains(name),
        };
    }

    private static IEnumerable<(string Text, Where Where)> TextsOf(StepAction action, bool kept, bool command)
    {
        var where = new Where(kept, command);
        IEnumerable<string> own = action switch
        {
            CommandAction a => a.Arguments,
            StartAction a => [a.Service],
            StopAction a => [a.Service],
            RestartAction a => [a.Service ?? ""],
            InstallAction a => [a.Package, a.Version, a.File ?? ""],
            SendAction a => [a.Artefact, a.To],
            CaptureAction a => [.. a.Paths, a.To, .. a.By ?? []],
            PersonAction a => [a.Instructions],
            RequestAction a => [a.Url, a.Body ?? ""],
            QueryAction a => [a.Statement],
            _ => [],
        };
        foreach (var text in own)
            yield return (text, where);
        if (action is CaptureAction { Kept: { } point })
            foreach (var inner in new[] { point.Take, point.There, point.TakeAway }.OfType<StepAction>())
            foreach (var text in TextsOf(inner, kept: true, inner is CommandAction))
                yield return text;
    }

    [GeneratedRegex(@"\{(secret\.[A-Za-z0-9_.-]+|[a-z]+\.[a-z0-9.-]+)\}")]
    private static partial Regex Placeholder();
}
