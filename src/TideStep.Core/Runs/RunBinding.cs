using System.Collections.Immutable;
using System.Text.Json;
using System.Text.RegularExpressions;
using TideStep.Core.Catalogue;
using TideStep.Core.Estates;
using TideStep.Core.Expressions;
using TideStep.Core.Plans;

namespace TideStep.Core.Runs;

/// <summary>Puts into a step what only the run knows: who takes over, and what earlier steps of the lane noted
/// (2-architecture, rule 2). All of it stands in the journal, so that a step is bound the same however often it is
/// taken up.</summary>
public static partial class RunBinding
{
    /// <summary>The step as it is to be done, or what is missing for it.</summary>
    public static (PlanStep Step, string? Missing) Of(PlanStep step, RunState state, Estate estate)
    {
        if (step.On is null && !TextsOf(step).Any(t => Placeholder().IsMatch(t)))
            return (step, null);
        var lane = state.Plan.LaneOf(step.Id);
        var successor = state.Successors.TryGetValue(lane.Subject, out var chosen) ? estate.FindMember(chosen) : null;
        if (step.On == StepOn.Successor && successor is null)
            return (step, $"{step.Title}: nobody was chosen to take over from {lane.Subject}");
        string? missing = null;
        string Put(string text, Func<string, string>? written = null) =>
            Placeholder()
                .Replace(text, match =>
                {
                    var name = match.Groups[1].Value;
                    var value = name switch
                    {
                        "successor.node" => successor?.Node,
                        "point.place" => step.Uses is { } used && state.Points.TryGetValue(used, out var point)
                            ? point.Place
                            : null,
                        "successor.address" => successor is null
                            ? null
                            : estate.Nodes[successor.Node].Reach["address"] ?? successor.Node,
                        _ when name.StartsWith("reading.", StringComparison.Ordinal) => state
                            .Parameters.GetValueOrDefault(step.Id)
                            ?.GetValueOrDefault(name[8..]),
                        _ => Noted(lane, state, name[6..]),
                    };
                    if (value is null)
                        missing =
                            name.StartsWith("reading.", StringComparison.Ordinal)
                                ? $"{step.Title}: '{name[8..]}' was not read"
                            : name == "point.place" ? $"{step.Title}: its rollback point was not captured"
                            : name.StartsWith("noted.", StringComparison.Ordinal)
                                ? $"{step.Title}: no step before it noted '{name[6..]}'"
                            : $"{step.Title}: nobody was chosen to take over from {lane.Subject}";
                    return value is null ? match.Value : written?.Invoke(value) ?? value;
                });
        var bound = step with
        {
            Do = step.Do is AwaitAction wait ? new AwaitAction(Asked(wait.Holds)!) : Bound(step.Do),
            Undo = step.Undo is { } undo ? Bound(undo) : null,
            Already = Asked(step.Already),
            Verify = Asked(step.Verify),
        };
        // What is done on the successor is done at its node and proved by its readings.
        return (
            step.On == StepOn.Successor
                ? bound with
                {
                    Member = successor!.Id,
                    Node = successor.Node,
                    Account = estate.Nodes[successor.Node].Reach["account"],
                }
                : bound,
            missing
        );

        StepAction Bound(StepAction of) => Mapped(of, Put);

        // What is put in stands within a text of the expression.
        Expression? Asked(Expression? expression)
        {
            if (expression is null || !Placeholder().IsMatch(expression.Text))
                return expression;
            var put = Put(expression.Text, value =>
            {
                if (value.Contains('"'))
                    missing = $"{step.Title}: {value} has a quotation mark in it and can't be compared";
                return value.Replace("\"", "", StringComparison.Ordinal);
            });
            return ExpressionParser.TryParse(put, out _, out _) ?? expression;
        }
    }

    /// <summary>An action for a rollback point that the far side keeps under a name: the name in its place.</summary>
    public static StepAction Named(StepAction of, string name) =>
        Mapped(of, (text, written) =>
            text.Replace("{point.name}", written?.Invoke(name) ?? name, StringComparison.Ordinal)
        );

    // What is put in is text within an address or a JSON body, whatever signs it holds.
    private static StepAction Mapped(StepAction of, Func<string, Func<string, string>?, string> put) =>
        of switch
        {
            CommandAction c => new CommandAction([.. c.Arguments.Select(a => put(a, null))]),
            StartAction s => new StartAction(put(s.Service, null)),
            StopAction s => new StopAction(put(s.Service, null)),
            InstallAction i => new InstallAction(
                put(i.Package, null),
                put(i.Version, null),
                i.File is { } file ? put(file, null) : null,
                i.AllowDown
            ),
            RequestAction r => new RequestAction(
                r.Method,
                put(r.Url, Uri.EscapeDataString),
                r.Body is { } body ? put(body, v => JsonEncodedText.Encode(v).ToString()) : null
            ),
            QueryAction q => new QueryAction(q.Statement, [.. q.Parameters.Select(p => put(p, null))]),
            SendAction s => new SendAction(put(s.Artefact, null), put(s.To, null)),
            CaptureAction { Kept: { } kept } c => c with
            {
                Kept = kept with
                {
                    Take = kept.Take is { } take ? Mapped(take, put) : null,
                    There = Mapped(kept.There, put),
                    TakeAway = kept.TakeAway is { } away ? Mapped(away, put) : null,
                },
            },
            var other => other,
        };

    /// <summary>The readings that a step takes as parameters, by name.</summary>
    public static IReadOnlyCollection<string> ReadingsOf(PlanStep step) =>
        [
            .. TextsOf(step)
                .SelectMany(t => Placeholder().Matches(t))
                .Select(m => m.Groups[1].Value)
                .Where(n => n.StartsWith("reading.", StringComparison.Ordinal))
                .Select(n => n[8..])
                .Distinct(),
        ];

    /// <summary>The secrets that a step's commands are given, by name.</summary>
    public static IReadOnlyCollection<string> SecretsOf(PlanStep step) =>
        [.. TextsOf(step).SelectMany(t => Secret().Matches(t)).Select(m => m.Groups[1].Value).Distinct()];

    /// <summary>Whether a step would start a service that stood still before this run stopped the others (N157): what
    /// was stopped stays so.</summary>
    public static bool StoodStill(PlanStep step, RunState state)
    {
        if (step is not { AsBefore: true, Do: StartAction start } || state.Plan.Kind != Plan.Upgrade)
            return false;
        var stops = state
            .Plan.Blocks.SelectMany(b => b.Lanes)
            .SelectMany(l => l.Steps)
            .Where(s => s.Member == step.Member && s.Do is StopAction stop && stop.Service == start.Service);
        return stops.Select(s => state.Of(s.Id)).FirstOrDefault(s => s.Status == StepStatus.Done)
            is { How: DoneHow.Already, Attempts.IsEmpty: true };
    }

    private static IEnumerable<string> TextsOf(PlanStep step) =>
        [
            .. Texts(step.Do),
            .. step.Undo is { } undo ? Texts(undo) : [],
            .. new[] { step.Already, step.Verify, (step.Do as AwaitAction)?.Holds }
                .OfType<Expression>()
                .Select(e => e.Text),
        ];

    // The last line that a step which notes it wrote, in this lane, before now.
    private static string? Noted(Lane lane, RunState state, string name) =>
        lane
            .Steps.Where(s => s.Notes == name)
            .Select(s =>
                state
                    .Of(s.Id)
                    .Attempts.LastOrDefault(a => a is { Undo: false, End: AttemptEnd.Succeeded })
                    ?.Output.Split('\n', StringSplitOptions.RemoveEmptyEntries | StringSplitOptions.TrimEntries)
                    .LastOrDefault()
            )
            .LastOrDefault(o => o is not null);

    private static IEnumerable<string> Texts(StepAction action) =>
        action switch
        {
            CommandAction c => c.Arguments,
            StartAction s => [s.Service],
            StopAction s => [s.Service],
            InstallAction i => [i.Package, i.Version, i.File ?? ""],
            RequestAction r => [r.Url, r.Body ?? ""],
            QueryAction q => q.Parameters,
            SendAction s => [s.Artefact, s.To],
            CaptureAction { Kept: { } k } =>
            [
                .. k.Take is { } take ? Texts(take) : [],
                .. Texts(k.There),
                .. k.TakeAway is { } away ? Texts(away) : [],
            ],
            _ => ImmutableArray<string>.Empty,
        };

    [GeneratedRegex(@"\{(point\.place|reading\.[a-z0-9.-]+|successor\.node|successor\.address|noted\.[a-z0-9.-]+)\}")]
    private static partial Regex Placeholder();

    [GeneratedRegex(@"\{secret\.([A-Za-z0-9_][A-Za-z0-9_.-]*)\}")]
    private static partial Regex Secret();
}
