using System.Collections.Immutable;
using System.Text.RegularExpressions;
using TideStep.Core.Catalogue;
using TideStep.Core.Documents;
using TideStep.Core.Estates;
using TideStep.Core.Expressions;

namespace TideStep.Core.Plans;

/// <summary>Binds the placeholders of a step's action for one member; a placeholder that nothing binds is a
/// problem.</summary>
internal sealed class Binding(
    Estate estate,
    Member member,
    string? from,
    string? to,
    RollbackPlace? point,
    IReadOnlyDictionary<string, string> answers,
    Findings findings,
    Templates templates
)
{
    /// <summary>The names under which steps of the product note something; what they stand for is bound in the
    /// run.</summary>
    public IReadOnlySet<string> Noted { get; init; } = new HashSet<string>();

    /// <summary>The names of the readings that a step may take as parameters.</summary>
    public IReadOnlySet<string> Readings { get; init; } = new HashSet<string>();

    /// <summary>The member of a related component at whose node the step is done; null at the member's own.</summary>
    public Member? At { get; init; }

    // Only a command can be given a file with a secret in it.
    private bool _inCommand;

    public StepAction Bind(StepAction action, StepSpec step)
    {
        _inCommand = action is CommandAction;
        return Bound(action, step);
    }

    /// <summary>An expression with what the placeholders within its texts stand for.</summary>
    public Expression? Bind(Expression? expression, StepSpec step)
    {
        if (expression is null || !expression.Text.Contains('{'))
            return expression;
        _inCommand = false;
        return templates.Parsed(Text(expression.Text, step, Quotable)) ?? expression;

        string Quotable(string value)
        {
            if (value.Contains('"'))
                findings.Add(
                    $"step {step.Name}: {value} can't stand in {expression.Text}: it has a quotation mark in it",
                    step.Place,
                    "Give it another name, or ask for it by a reading."
                );
            return value.Replace("\"", "", StringComparison.Ordinal);
        }
    }

    private StepAction Bound(StepAction action, StepSpec step) =>
        action switch
        {
            CommandAction command => new CommandAction([.. command.Arguments.Select(a => Text(a, step))]),
            StartAction start => new StartAction(Text(start.Service, step)),
            StopAction stop => new StopAction(Text(stop.Service, step)),
            RestartAction restart => new RestartAction(restart.Service is { } service ? Text(service, step) : null),
            InstallAction install => new InstallAction(
                Text(install.Package, step),
                Text(install.Version, step),
                install.File is { } file ? Text(file, step) : null,
                install.AllowDown
            ),
            SendAction send => new SendAction(Text(send.Artefact, step), Text(send.To, step)),
            CaptureAction capture => new CaptureAction(
                capture.Name,
                [.. capture.Paths.Select(p => Text(p, step))],
                Text(capture.To, step)
            )
            {
                By = capture.By is { } by ? [.. by.Select(a => Text(a, step))] : null,
                Kept = capture.Kept is { } kept
                    ? kept with
                    {
                        Take = kept.Take is { } take ? Bound(take, step) : null,
                        There = Bound(kept.There, step),
                        TakeAway = kept.TakeAway is { } away ? Bound(away, step) : null,
                    }
                    : null,
            },
            PersonAction person => new PersonAction(Text(person.Instructions, step)),
            // What is bound is text within an address or a JSON body, whatever signs it holds.
            RequestAction request => new RequestAction(
                request.Method,
                Text(request.Url, step, Uri.EscapeDataString),
                request.Body is { } body
                    ? Text(body, step, v => System.Text.Json.JsonEncodedText.Encode(v).ToString())
                    : null
            ),
            QueryAction query => Parametrised(query, step),
            AwaitAction wait => new AwaitAction(Bind(wait.Holds, step)!),
            _ => action,
        };

    private QueryAction Parametrised(QueryAction query, StepSpec step)
    {
        var parameters = ImmutableArray.CreateBuilder<string>();
        var statement = string.Concat(
            templates
                .Of(query.Statement)
                .Select(piece =>
                {
                    if (piece.Name is null)
                        return piece.Text;
                    parameters.Add(Bound(piece, step, null));
                    return $"${parameters.Count}";
                })
        );
        return new QueryAction(statement, parameters.ToImmutable());
    }

    private string Text(string text, StepSpec step, Func<string, string>? written = null)
    {
        var pieces = templates.Of(text);
        return pieces is [{ Name: null }]
            ? text
            : string.Concat(pieces.Select(p => p.Name is null ? p.Text : Bound(p, step, written)));
    }

    /// <summary>A step's title with what its placeholders stand for; what is known only in the run is left
    /// open.</summary>
    public string Title(StepSpec step) => Open(step.Title, step);

    /// <summary>The same of a text that belongs to no step of the product.</summary>
    public string Open(string text, StepSpec? step = null) =>
        string.Concat(
            templates
                .Of(text)
                .Select(p =>
                    p.Name is null ? p.Text
                    : ValueOf(p, step) is { } value && value != p.Text ? value
                    : "…"
                )
        );

    private string Bound(Templates.Piece piece, StepSpec step, Func<string, string>? written)
    {
        var bound = ValueOf(piece, step);
        if (bound is null)
            findings.Add(
                $"step {step.Name}: nothing binds the placeholder {piece.Text} for {member.Id}",
                step.Place,
                PlaceholderNames.Known
            );
        return bound is null || bound == piece.Text ? piece.Text : written?.Invoke(bound) ?? bound;
    }

    // What a placeholder stands for: its own text where that is known only in the run, null where nothing binds it.
    private string? ValueOf(Templates.Piece piece, StepSpec? step) =>
        piece.Name switch
        {
            "jump.to" => to,
            "jump.from" => from,
            "member.node" => member.Node,
            "member.component" => member.Component,
            "member.role" => member.Role,
            "node.address" => estate.Nodes[member.Node].Reach["address"] ?? member.Node,
            "on.node" => At?.Node,
            "on.address" => At is { } at ? estate.Nodes[at.Node].Reach["address"] ?? at.Node : null,
            // Where a point that is captured in this very run lies is known only then.
            "point.place" => point is { Place.Length: 0 } ? piece.Text : point?.Place,
            "point.id" => point?.Id,
            // Of what the far side keeps itself: the run gives it a name of its own.
            "point.name" => step?.Do is CaptureAction { Kept: not null } ? piece.Text : null,
            // Known only in the run: who takes over, and what an earlier step noted.
            "successor.node" or "successor.address" => piece.Text,
            // A reading of the member, taken right before the step; what a secret holds is never text of a plan.
            { } name when name.StartsWith("reading.", StringComparison.Ordinal) => Readings.Contains(name[8..])
                ? piece.Text
                : null,
            { } name when name.StartsWith("secret.", StringComparison.Ordinal) => _inCommand ? piece.Text : null,
            { } name when name.StartsWith("noted.", StringComparison.Ordinal) => Noted.Contains(name[6..])
                ? piece.Text
                : null,
            { } name when name.StartsWith("trait.", StringComparison.Ordinal) => estate
                .Find(member.Component)!
                .Traits.GetValueOrDefault(name[6..]),
            { } name when name.StartsWith("answer.", StringComparison.Ordinal) => answers.GetValueOrDefault(name[7..]),
            _ => null,
        };
}

/// <summary>Texts of steps, taken apart at their placeholders once: every member of a component binds the same
/// ones.</summary>
internal sealed partial class Templates
{
    /// <summary>A part of a text as it is written; with its name where it is a placeholder.</summary>
    public readonly record struct Piece(string Text, string? Name);

    private readonly Dictionary<string, ImmutableArray<Piece>> _known = [];
    private readonly Dictionary<string, Expression?> _parsed = [];

    /// <summary>The expression of a text; null where it is none.</summary>
    public Expression? Parsed(string text) =>
        _parsed.TryGetValue(text, out var known)
            ? known
            : _parsed[text] = ExpressionParser.TryParse(text, out _, out _);

    public ImmutableArray<Piece> Of(string text)
    {
        if (_known.TryGetValue(text, out var known))
            return known;
        var (pieces, from) = (ImmutableArray.CreateBuilder<Piece>(), 0);
        foreach (Match match in Placeholder().Matches(text))
        {
            if (match.Index > from)
                pieces.Add(new Piece(text[from..match.Index], null));
            pieces.Add(new Piece(match.Value, match.Groups[1].Value));
            from = match.Index + match.Length;
        }
        if (from < text.Length || pieces.Count == 0)
            pieces.Add(new Piece(text[from..], null));
        return _known[text] = pieces.ToImmutable();
    }

    [GeneratedRegex(@"\{(secret\.[A-Za-z0-9_.-]+|[a-z]+\.[a-z0-9.-]+)\}")]
    private static partial Regex Placeholder();
}

/// <summary>Where a captured rollback point lies, for the steps that restore it.</summary>
public sealed record RollbackPlace(string Id, string Kind, string Member, string Place, string Version);
