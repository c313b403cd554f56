using System.Collections.Immutable;
using System.Text.Json.Serialization;
using TideStep.Core.Documents;
using TideStep.Core.Expressions;

namespace TideStep.Core.Catalogue;

/// <summary>The one action of a step. Texts may hold placeholders such as <c>{jump.to}</c>, bound when the plan is made
/// or the step begins.</summary>
[JsonPolymorphic(TypeDiscriminatorPropertyName = "action")]
[JsonDerivedType(typeof(CommandAction), "command")]
[JsonDerivedType(typeof(StartAction), "start")]
[JsonDerivedType(typeof(StopAction), "stop")]
[JsonDerivedType(typeof(RestartAction), "restart")]
[JsonDerivedType(typeof(InstallAction), "install")]
[JsonDerivedType(typeof(SendAction), "send")]
[JsonDerivedType(typeof(CaptureAction), "capture")]
[JsonDerivedType(typeof(AwaitAction), "await")]
[JsonDerivedType(typeof(PersonAction), "person")]
[JsonDerivedType(typeof(RequestAction), "request")]
[JsonDerivedType(typeof(QueryAction), "query")]
public abstract record StepAction;

/// <summary>A command as an argument list; nothing passes through a shell.</summary>
public sealed record CommandAction(ImmutableArray<string> Arguments) : StepAction;

/// <summary>Starts a service.</summary>
public sealed record StartAction(string Service) : StepAction;

/// <summary>Stops a service.</summary>
public sealed record StopAction(string Service) : StepAction;

/// <summary>Restarts a service, or the node where <paramref name="Service"/> is null.</summary>
public sealed record RestartAction(string? Service) : StepAction;

/// <summary>Installs a package at a version, from a file on the node where one is given; downgrades only where
/// allowed.</summary>
public sealed record InstallAction(string Package, string Version, string? File, bool AllowDown) : StepAction;

/// <summary>Sends an artefact to a path on the node; its checksum is verified there.</summary>
public sealed record SendAction(string Artefact, string To) : StepAction;

/// <summary>Captures a rollback point: the given paths of the node (or what the far side knows under the name) into a
/// place.</summary>
public sealed record CaptureAction(string Name, ImmutableArray<string> Paths, string To) : StepAction
{
    /// <summary>The command that writes the point where it is more than files: a database's own dump or backup. The
    /// place comes after its last argument. Null where paths are captured.</summary>
    public ImmutableArray<string>? By { get; init; }

    /// <summary>How the point is known on the far side, where that keeps it itself: a snapshot, the other slot, a
    /// previous version beside the new one. Null where it is a file of ours.</summary>
    public KeptPoint? Kept { get; init; }
}

/// <summary>A rollback point that the far side keeps under a name that the run gives it
/// (<c>{point.name}</c>).</summary>
/// <param name="Take">What makes it; null where it comes to be by itself, as the other slot does.</param>
/// <param name="There">Asks for it: it succeeds where the point is there.</param>
/// <param name="Says">A regular expression that the answer must match: the state in which it is whole; null where being
/// there is enough.</param>
/// <param name="Bytes">A regular expression whose group is the size in bytes in the answer; null where it does not
/// tell.</param>
/// <param name="TakeAway">What takes it away, once a person gives it up; null where nothing has to be done.</param>
public sealed record KeptPoint(StepAction? Take, StepAction There, string? Says, string? Bytes, StepAction? TakeAway);

/// <summary>Waits until an expression holds.</summary>
public sealed record AwaitAction(Expression Holds) : StepAction;

/// <summary>Something a person does and signs.</summary>
public sealed record PersonAction(string Instructions) : StepAction;

/// <summary>An HTTP request to the node's own interface; any status from 200 to 299 is success.</summary>
public sealed record RequestAction(string Method, string Url, string? Body) : StepAction;

/// <summary>A statement to the node's database; what placeholders stand for goes along as parameters, <c>$1</c> and on,
/// never as text of the statement.</summary>
public sealed record QueryAction(string Statement, ImmutableArray<string> Parameters) : StepAction;

/// <summary>How often a step may be tried, after how long again, and for which failures; where no kind is named, for
/// every end by a bad status.</summary>
public sealed record AttemptPolicy(int Times, TimeSpan Every)
{
    /// <summary>The exit statuses for which it is tried again; null where they do not matter.</summary>
    public ImmutableArray<int>? Statuses { get; init; }

    /// <summary>A regular expression; it is tried again where its output matches. Null where that does not
    /// matter.</summary>
    public string? Says { get; init; }

    /// <summary>Whether it is tried again, too, where it ended well and what it was to bring about is not so.</summary>
    public bool? Unverified { get; init; }

    /// <summary>Whether it is tried again after it ended with a status that is none of success.</summary>
    /// <param name="status">The status.</param>
    /// <param name="output">What it put out.</param>
    public bool TakesUp(int? status, string output) =>
        (Statuses is null && Says is null && Unverified is null)
        || (status is { } code && Statuses?.Contains(code) == true)
        || (
            Says is { } says
            && System.Text.RegularExpressions.Regex.IsMatch(
                output,
                says,
                System.Text.RegularExpressions.RegexOptions.NonBacktracking
            )
        );
}

/// <summary>Till when a temporary measure stands: its member is done, the wave is, the jump is, or the run
/// ends.</summary>
public enum MeasureScope
{
    Member,
    Wave,
    Jump,
    Run,
}

/// <summary>On whom a step is done: the member whose routine it is in, the member that takes over from it, or each of
/// the others.</summary>
public enum StepOn
{
    Member,
    Successor,
    Others,

    /// <summary>At members of a related component, with the member as its subject.</summary>
    Related,
}

/// <summary>For which of the members that a jump works on a step is done: each, the first of each wave, the first at
/// each site, the first of all, or the last of all.</summary>
public enum StepScope
{
    Member,
    Wave,
    Site,
    First,
    Last,
}

/// <summary>A number that a step's own output has to tell, and between what it has to be.</summary>
/// <param name="Pattern">A regular expression whose first group is the number.</param>
public sealed record ToldNumber(string Name, string Pattern, double? AtLeast, double? AtMost);

/// <summary>A part of one long step, as its own output tells that it has begun: what is done, now and to come can be
/// seen from outside.</summary>
/// <param name="Says">A regular expression that the output matches once the part has begun; null for the first, which
/// begins with the step.</param>
/// <param name="Takes">How long it takes; null where that is not said.</param>
public sealed record Milestone(string Title, string? Says, TimeSpan? Takes)
{
    /// <summary>How many of the parts have begun, by what was put out so far.</summary>
    public static int Begun(ImmutableArray<Milestone> milestones, string output)
    {
        for (var i = milestones.Length - 1; i >= 0; i--)
            if (
                milestones[i].Says is not { } says
                || System.Text.RegularExpressions.Regex.IsMatch(
                    output,
                    says,
                    System.Text.RegularExpressions.RegexOptions.NonBacktracking
                )
            )
                return i + 1;
        return 0;
    }
}

/// <summary>A step as a product declares it (4-execution, A step).</summary>
public sealed record StepSpec(
    string Name,
    string Title,
    StepAction Do,
    Expression? Already,
    Expression? Verify,
    TimeSpan VerifyWithin,
    StepAction? Undo,
    bool Repeatable,
    AttemptPolicy Attempts,
    TimeSpan Limit,
    bool MayStop,
    bool SafeAfter,
    TimeSpan Expected,
    string? Impact,
    Place? Place
)
{
    /// <summary>How its time grows with what it works on; null where it does not.</summary>
    public TimeRate? Rate { get; init; }

    /// <summary>What tells this step from any other: the beginning of the digest of what it does and how that is
    /// proved, whatever its times.</summary>
    public string Digest =>
        _digest ??= Documents.Json.Digest(
            new
            {
                action = Do,
                already = Already?.Text,
                verify = Verify?.Text,
                undo = Undo,
                Repeatable,
                On,
                At,
                Notes,
                endsWell = EndsWell.IsDefaultOrEmpty ? (ImmutableArray<int>?)null : EndsWell,
            }
        )[7..19];
    private string? _digest;

    /// <summary>On whom it is done.</summary>
    public StepOn On { get; init; }

    /// <summary>At whose node it is done, where that is a related component's; null elsewhere.</summary>
    public RelatedPlace? At { get; init; }

    /// <summary>The name under which the last line of its output is noted, for <c>{noted.NAME}</c> in later steps of
    /// the same lane; null where nothing is.</summary>
    public string? Notes { get; init; }

    /// <summary>Whose it is, where a person does it; null where nothing is said.</summary>
    public string? Owner { get; init; }

    /// <summary>Whether it can be neither skipped nor marked as done.</summary>
    public bool Must { get; init; }

    /// <summary>Till when it stands, where it is a temporary measure.</summary>
    public MeasureScope Lasts { get; init; }

    /// <summary>The traits of the component, or else of its node, or the answers given, that must have one of these
    /// values for the step to be done at all.</summary>
    public ImmutableSortedDictionary<string, ImmutableArray<string>> For { get; init; } =
        ImmutableSortedDictionary<string, ImmutableArray<string>>.Empty;

    /// <summary>For which of the members it is done.</summary>
    public StepScope Scope { get; init; }

    /// <summary>What its output has to tell of its own success.</summary>
    public ImmutableArray<ToldNumber> Tells { get; init; } = [];

    /// <summary>The parts of a long step, in their order.</summary>
    public ImmutableArray<Milestone> Milestones { get; init; } = [];

    /// <summary>The exit statuses that are success; empty where only 0 is.</summary>
    public ImmutableArray<int> EndsWell { get; init; } = [];

    /// <summary>Stands for every service of the product, where a step starts or stops them all.</summary>
    public const string AllServices = "services";

    /// <summary>The captures whose earlier rollback points of the component lead nowhere any more once this step has
    /// begun.</summary>
    public ImmutableArray<string> Voids { get; init; } = [];

    /// <summary>How much longer than expected it may well take: 1 is no longer.</summary>
    public double UpTo { get; init; } = 1;
}

/// <summary>So much time for each so much of a reading: <c>40 s</c> for each <c>GiB</c> of <c>data-size</c>, or for
/// each object of a count.</summary>
/// <param name="Per">In bytes, or in objects.</param>
/// <param name="Unit">How <paramref name="Per"/> is written.</param>
public sealed record TimeRate(TimeSpan Each, double Per, string Unit, string Of);

/// <summary>How a product's members leave, return and are restored; lists of step names, by role where roles
/// differ.</summary>
public sealed record Routines(
    ImmutableDictionary<string, ImmutableArray<string>> Leave,
    ImmutableDictionary<string, ImmutableArray<string>> Return,
    Expression? InStep,
    TimeSpan InStepWithin,
    ImmutableDictionary<string, ImmutableArray<string>> Restore
)
{
    /// <summary>How a new member joins a component that serves, and gets in step: its steps run after the change put
    /// the version there.</summary>
    public ImmutableDictionary<string, ImmutableArray<string>> Join { get; init; } =
        ImmutableDictionary<string, ImmutableArray<string>>.Empty;

    /// <summary>What gives a joined member that is in step its vote.</summary>
    public ImmutableDictionary<string, ImmutableArray<string>> Vote { get; init; } =
        ImmutableDictionary<string, ImmutableArray<string>>.Empty;

    /// <summary>How a member that left is given up for good.</summary>
    public ImmutableDictionary<string, ImmutableArray<string>> Retire { get; init; } =
        ImmutableDictionary<string, ImmutableArray<string>>.Empty;

    /// <summary>How a host is emptied of the nodes on it that can be moved, before it goes out.</summary>
    public ImmutableDictionary<string, ImmutableArray<string>> Empty { get; init; } =
        ImmutableDictionary<string, ImmutableArray<string>>.Empty;

    /// <summary>How often, and at what interval, emptying is tried.</summary>
    public AttemptPolicy EmptyAttempts { get; init; } = new(1, TimeSpan.Zero);

    public ImmutableArray<string> EmptyOf(string? role) => Pick(Empty, role);

    /// <summary>What is done right after a capture to prove that it can be restored, by the capture's name: as a rule a
    /// restore into a scratch place.</summary>
    public ImmutableDictionary<string, ImmutableArray<string>> Prove { get; init; } =
        ImmutableDictionary<string, ImmutableArray<string>>.Empty;

    public ImmutableArray<string> JoinOf(string? role) => Pick(Join, role);

    public ImmutableArray<string> VoteOf(string? role) => Pick(Vote, role);

    public ImmutableArray<string> RetireOf(string? role) => Pick(Retire, role);

    /// <summary>The routine that serves every role without one of its own.</summary>
    public const string AnyRole = "*";

    public ImmutableArray<string> LeaveOf(string? role) => Pick(Leave, role);

    public ImmutableArray<string> ReturnOf(string? role) => Pick(Return, role);

    private static ImmutableArray<string> Pick(ImmutableDictionary<string, ImmutableArray<string>> by, string? role) =>
        role is not null && by.TryGetValue(role, out var own) ? own : by.GetValueOrDefault(AnyRole, []);
}

/// <summary>How a reading is taken: a field of the far side's own report, a command and a pattern, an HTTP address, an
/// SQL query, or a file.</summary>
/// <param name="Path">Within a JSON answer the place of the value: names and numbers with dots between; of a file its
/// path.</param>
public sealed record Collector(
    string Name,
    string By,
    ImmutableArray<string> Command,
    string? Pattern,
    string? Url,
    string? Path,
    string? Field,
    ValueKind Kind,
    bool FromOutside
)
{
    /// <summary>The query whose first column of the first row is the value.</summary>
    public string? Query { get; init; }

    /// <summary>What goes along with the query, <c>$1</c> and on.</summary>
    public ImmutableArray<string> Parameters { get; init; } = [];

    /// <summary>At whose node it is taken, where that is a related component's: of the first of its members that
    /// answers. Null for the member's own.</summary>
    public RelatedPlace? On { get; init; }

    /// <summary>The same for a member whose reading is taken elsewhere: its placeholders stand for that member, and
    /// <c>on.node</c> and <c>on.address</c> for where it is taken.</summary>
    /// <param name="values">What placeholders stand for, by name.</param>
    public Collector About(IReadOnlyDictionary<string, string?> values)
    {
        string Put(string text) =>
            values.Aggregate(text, (t, v) => t.Replace($"{{{v.Key}}}", v.Value, StringComparison.Ordinal));
        return this with
        {
            Command = [.. Command.Select(Put)],
            Url = Url is { } url ? Put(url) : null,
            Path = Path is { } path ? Put(path) : null,
            Field = Field is { } field ? Put(field) : null,
            Query = Query is { } query ? Put(query) : null,
        };
    }

    private const string KeysPlace = "{keys}";

    /// <summary>Whether it asks for objects that a sample chose; it can't be taken without them.</summary>
    public bool TakesKeys =>
        Command.Any(a => a.Contains(KeysPlace, StringComparison.Ordinal))
        || (Query ?? Url ?? Path ?? "").Contains(KeysPlace, StringComparison.Ordinal);

    /// <summary>The same for the objects of those keys: in a command, an address or a path as text, in a query as a
    /// parameter.</summary>
    public Collector For(string keys) =>
        this with
        {
            Command = [.. Command.Select(a => a.Replace(KeysPlace, keys, StringComparison.Ordinal))],
            Url = Url?.Replace(KeysPlace, Uri.EscapeDataString(keys), StringComparison.Ordinal),
            Path = By == "file" ? Path?.Replace(KeysPlace, keys, StringComparison.Ordinal) : Path,
            Query = Query?.Replace(KeysPlace, "$1", StringComparison.Ordinal),
            Parameters = Query?.Contains(KeysPlace, StringComparison.Ordinal) == true ? [keys] : [],
        };

    /// <summary>Where the value comes from, in words.</summary>
    public string Source => On is null ? Way : $"{Way}, at {On.Product}";

    private string Way =>
        By switch
        {
            "command" => $"command {string.Join(' ', Command)}",
            "http" => Url!,
            "sql" => $"query {Query}",
            "file" => $"file {Path}",
            _ => $"its own report, {Field}",
        };
}
