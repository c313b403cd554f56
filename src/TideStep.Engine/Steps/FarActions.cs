using System.Collections.Immutable;
using TideStep.Connectors;
using TideStep.Core.Catalogue;
using TideStep.Core.Documents;
using TideStep.Core.Runs;
using TideStep.Engine.Estates;

namespace TideStep.Engine.Steps;

/// <summary>Turns a plan's action into what a far side is asked to do.</summary>
internal static class FarActions
{
    /// <param name="endsWell">The exit statuses that are success, where 0 is not the only one.</param>
    public static FarAction Of(
        StepAction action,
        string? point,
        EngineSettings settings,
        ImmutableArray<int>? endsWell = null
    ) =>
        action switch
        {
            CommandAction command => new FarAction("command", command.Arguments),
            StartAction start => new FarAction("start", [start.Service]),
            StopAction stop => new FarAction("stop", [stop.Service]),
            RestartAction { Service: { } service } => new FarAction("restart-service", [service]),
            RestartAction => new FarAction("restart-node", []),
            InstallAction install => new FarAction(
                "install",
                [install.Package, install.Version, install.File ?? "", install.AllowDown ? "down" : ""]
            ),
            SendAction send => new FarAction("send", [send.Artefact, send.To], ArtefactFile(send.Artefact, settings)),
            CaptureAction { Kept: { Take: { } take } } => Of(RunBinding.Named(take, point!), null, settings),
            CaptureAction { By: { } by } dump => new FarAction(
                "capture-by",
                [$"{dump.To.TrimEnd('/')}/{point}.dump", string.Join(' ', endsWell ?? [0]), .. by]
            ),
            CaptureAction capture => new FarAction("capture", CaptureArguments(capture, point!)),
            RequestAction request => new FarAction("request", [request.Method, request.Url, request.Body ?? ""]),
            QueryAction query => new FarAction("query", [query.Statement, .. query.Parameters]),
            _ => throw new InvalidOperationException($"{action.GetType().Name} is nothing for a far side"),
        };

    // The place ends in the point's own name, so that points of several moves lie side by side.
    private static ImmutableArray<string> CaptureArguments(CaptureAction capture, string point) =>
        capture.To.Length == 0
            ? [point, .. capture.Paths]
            : [$"{capture.To.TrimEnd('/')}/{point}.tar.gz", .. capture.Paths];

    private static string ArtefactFile(string id, EngineSettings settings)
    {
        var path = Path.GetFullPath(Path.Combine(settings.Artefacts, id));
        if (!path.StartsWith(Path.GetFullPath(settings.Artefacts), StringComparison.Ordinal) || !File.Exists(path))
            throw new ConnectorException(
                new Problem(
                    $"the artefact '{id}' is not in the library",
                    null,
                    $"Put the file into {settings.Artefacts}."
                ),
                lasting: true
            );
        return path;
    }
}
