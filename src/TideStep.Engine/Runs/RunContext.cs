using TideStep.Core.Catalogue;
using TideStep.Core.Estates;
using TideStep.Core.Runs;
using TideStep.Engine.Surveys;
using TideStep.Storage;

namespace TideStep.Engine.Runs;

/// <summary>What a run needs of the world; the journal can rebuild everything else.</summary>
/// <param name="Installation">The identifier of this installation on far sides.</param>
/// <param name="NewAttempt">Gives an attempt an identifier that was never used.</param>
public sealed record RunContext(
    Estate Estate,
    ProductCatalogue Catalogue,
    IJournal Journal,
    RunFeed Feed,
    MemberReader Reader,
    EngineSettings Settings,
    TimeProvider Time,
    string Installation,
    Func<string> NewAttempt
)
{
    /// <summary>The revisions of the estate's and the catalogue's documents as they are now; null where nobody keeps
    /// them.</summary>
    public Func<CancellationToken, Task<(string Estate, string Catalogue)>>? Revisions { get; init; }

    /// <summary>Reads whole members once the work of a run is over, so that what is planned next rests on what it left;
    /// null where nobody keeps readings.</summary>
    public Func<IReadOnlyCollection<Member>, CancellationToken, Task>? Survey { get; init; }

    /// <summary>Why the run can't be led back to its start from where it stands, by its own journal and what is there
    /// now; null where it can, or where nobody asks.</summary>
    public Func<string, CancellationToken, Task<string?>>? WayBackClosed { get; init; }

    /// <summary>Told of errors of our own, with what was being done.</summary>
    public Action<string, Exception> Log { get; init; } = (_, _) => { };

    /// <summary>Takes the values of secrets by name out of a text, so that no output shows one.</summary>
    /// <exception cref="Connectors.ConnectorException">There is no such secret.</exception>
    public Func<IReadOnlyCollection<string>, string, string> Mask { get; init; } = (_, text) => text;
}
