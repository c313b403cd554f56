using System.Text.Json;
using TideStep.Connectors.Notices;
using TideStep.Core.Documents;
using TideStep.Core.Notices;
using TideStep.Core.Plans;
using TideStep.Core.Runs;
using TideStep.Engine.Estates;
using TideStep.Engine.Runs;
using TideStep.Storage;

namespace TideStep.Engine.Notices;

/// <summary>Reads the journal for moments of which somebody wants to know, keeps a notice for each, and sends it until
/// it is taken. What is kept outlives the service; several instances share the work.</summary>
public sealed class NoticeDesk(
    INoticeStore notices,
    IDocumentStore documents,
    RunDesk runs,
    EstateDesk estates,
    WebhookSender webhooks,
    MailSender mails,
    RunFeed feed,
    EngineSettings settings,
    TimeProvider time,
    string installation,
    Action<string, Exception?> log
) : IAsyncDisposable
{
    /// <summary>After how long a notice that was not taken is sent again; then as often as the last.</summary>
    public static readonly IReadOnlyList<TimeSpan> Again =
    [
        TimeSpan.FromSeconds(5),
        TimeSpan.FromSeconds(15),
        TimeSpan.FromMinutes(1),
        TimeSpan.FromMinutes(5),
        TimeSpan.FromMinutes(15),
        TimeSpan.FromHours(1),
    ];

    /// <summary>After how long it is given up.</summary>
    public static readonly TimeSpan GivenUpAfter = TimeSpan.FromHours(24);

    private static readonly TimeSpan Look = TimeSpan.FromSeconds(5);

    // Longer than a sender waits: whoever ended with notices in hand leaves them to the next soon.
    private static readonly TimeSpan Claim = TimeSpan.FromSeconds(30);
    private const int AtOnce = 200;
    private const int SideBySide = 8;

    private readonly CancellationTokenSource _ending = new();
    private readonly SemaphoreSlim _news = new(0);
    private Task _work = Task.CompletedTask;

    /// <summary>The address of a run's page, or null where there is none.</summary>
    public Func<string, string?> LinkOf { get; init; } = _ => null;

    /// <summary>An invitation to the hours of a plan, as iCalendar: from whom, to whom; null where the plan has no
    /// hours.</summary>
    public Func<Plan, string, string, IReadOnlyList<string>, string?> Invitation { get; init; } = (_, _, _, _) => null;

    public async Task<NoticeSettings> SettingsAsync(CancellationToken ct) =>
        await documents.FindAsync(EstateDesk.NoticesKind, EstateDesk.NoticesKind, ct) is { } kept
        && NoticesDocument.Read(kept.Body, "notices").Value is { } read
            ? read
            : NoticeSettings.None;

    public void Start() => _work = Task.WhenAll(Task.Run(ListenAsync), Task.Run(WorkAsync));

    private async Task ListenAsync()
    {
        try
        {
            await foreach (var _ in feed.ListenAsync(null, null, _ending.Token))
                if (_news.CurrentCount == 0)
                    _news.Release();
        }
        catch (OperationCanceledException)
        { /* the service stops */
        }
    }

    private async Task WorkAsync()
    {
        while (!_ending.IsCancellationRequested)
        {
            try
            {
                var told = await SettingsAsync(_ending.Token);
                await QueueNewAsync(told, _ending.Token);
                await SendDueAsync(told, _ending.Token);
                await Task.WhenAny(_news.WaitAsync(_ending.Token), Task.Delay(Look, time, _ending.Token));
            }
            catch (OperationCanceledException) when (_ending.IsCancellationRequested)
            {
                return;
            }
            catch (Exception e)
            {
                log("notices can't be looked after now; it is tried again", e);
                try
                {
                    await Task.Delay(Look, time, _ending.Token);
                }
                catch (OperationCanceledException)
                {
                    return;
                }
            }
        }
    }

    /// <summary>Keeps a notice for every moment since the journal was last read for them.</summary>
    public async Task QueueNewAsync(NoticeSettings told, CancellationToken ct)
    {
        if (told.Rules.IsEmpty)
        {
            await notices.QueueAsync([], await notices.LastPositionAsync(ct), ct);
            return;
        }
        var wanted = told.Rules.SelectMany(r => r.At).ToHashSet();
        while (true)
        {
            var after = await notices.NoticesReadAsync(ct);
            var entries = await notices.ReadAllAsync(after, AtOnce, ct);
            if (entries.Count == 0)
                return;
            var found = new List<StoredNotice>();
            foreach (
                var (_, entry) in entries.Where(e => RunNotice.PossibleMomentsOf(e.Entry.Event).Any(wanted.Contains))
            )
                if (await _followed.AtAsync(entry.Run, entry.Sequence, ct) is { } state)
                    foreach (var moment in RunNotice.MomentsOf(entry.Event, state.Plan))
                    foreach (var rule in told.Rules.Where(r => r.At.Contains(moment)))
                        found.Add(
                            Kept(
                                RunNotice.Of(entry.Run, state, entry, moment, settings.Pace),
                                rule,
                                $"{entry.Run}-{entry.Sequence}-{NoticesDocument.Word(moment)}-{rule.Id}"
                            )
                        );
            await notices.QueueAsync(found, entries[^1].Position, ct);
        }
    }

    // Only the one who looks after notices uses it.
    private readonly FollowedRuns _followed = new(runs);

    private StoredNotice Kept(RunNotice notice, NoticeRule rule, string id) =>
        new(
            id,
            notice.Run,
            rule.Id,
            NoticesDocument.Word(notice.Moment),
            JsonSerializer.Serialize(notice, Json.Options),
            notice.At,
            StoredNotice.Waiting,
            0,
            time.GetUtcNow(),
            null
        );

    /// <summary>Sends what is due, a handful side by side.</summary>
    public async Task SendDueAsync(NoticeSettings told, CancellationToken ct)
    {
        while (
            await notices.ClaimAsync(time.GetUtcNow(), time.GetUtcNow() + Claim, SideBySide, ct) is { Count: > 0 } due
        )
            await Task.WhenAll(due.Select(OneAsync));

        async Task OneAsync(StoredNotice notice)
        {
            var rule = told.Rules.FirstOrDefault(r => r.Id == notice.Rule);
            var why = rule is null ? "nobody is to be told any more" : await SendAsync(notice, rule, told, ct);
            var (attempts, now) = (notice.Attempts + 1, time.GetUtcNow());
            var wait = Again[Math.Min(attempts, Again.Count) - 1];
            var state =
                why is null ? StoredNotice.Sent
                : rule is null || now + wait > notice.At + GivenUpAfter ? StoredNotice.GivenUp
                : StoredNotice.Waiting;
            await notices.TriedAsync(notice.Id, state, attempts, now + wait, why, ct);
        }
    }

    private async Task<string?> SendAsync(StoredNotice kept, NoticeRule rule, NoticeSettings told, CancellationToken ct)
    {
        var notice = JsonSerializer.Deserialize<RunNotice>(kept.Body, Json.Options)!;
        var link = LinkOf(notice.Run);
        if (rule.To == NoticeTo.Webhook)
            return await webhooks.SendAsync(rule.Address!, rule.Secret, Event(kept, notice, link), ct);
        if (told.Mail is not { } mail)
            return "nothing says how mail leaves";
        var zone = TimeZoneInfo.FindSystemTimeZoneById((await estates.CurrentEstateAsync(ct))?.Zone ?? "UTC");
        string? invitation = null;
        if (
            rule.Invitation
            && notice.Moment == NoticeMoment.Planned
            && await estates.FindPlanAsync(notice.Plan, ct) is { } plan
        )
            invitation = Invitation(plan, notice.Label.Length > 0 ? notice.Label : notice.Run, mail.From, rule.People);
        return await mails.SendAsync(
            mail,
            rule.People,
            kept.Id,
            notice.Subject,
            notice.Text(zone, link),
            invitation,
            ct
        );
    }

    // CloudEvents 1.0, structured: the same notice has the same identifier however often it is sent.
    private string Event(StoredNotice kept, RunNotice notice, string? link) =>
        JsonSerializer.Serialize(
            new
            {
                specversion = "1.0",
                id = kept.Id,
                source = $"urn:tidestep:{installation}",
                type = $"tidestep.run.{kept.Moment}",
                subject = notice.Run,
                time = notice.At,
                datacontenttype = "application/json",
                data = new
                {
                    notice.Run,
                    notice.Label,
                    moment = kept.Moment,
                    notice.Status,
                    notice.Kind,
                    notice.Plan,
                    notice.Estate,
                    notice.By,
                    notice.At,
                    notice.Why,
                    notice.Goal,
                    notice.Decisions,
                    ifNobodyDecides = notice.Default,
                    notice.ForecastEnd,
                    notice.ReturnPath,
                    link,
                },
            },
            Json.Options
        );

    /// <summary>Sends a made-up notice by a rule at once; null when it was taken, else why not.</summary>
    public async Task<(bool Known, string? Why)> TryAsync(string rule, string by, CancellationToken ct)
    {
        var told = await SettingsAsync(ct);
        if (told.Rules.FirstOrDefault(r => r.Id == rule) is not { } found)
            return (false, null);
        var now = time.GetUtcNow();
        var notice = new RunNotice(
            "none",
            $"a try by {by}",
            NoticeMoment.Started,
            RunStatus.Ready,
            Plan.Upgrade,
            "none",
            (await estates.CurrentEstateAsync(ct))?.Id ?? "none",
            by,
            now,
            "this is a try of a notice; nothing has begun",
            [],
            [],
            null,
            null,
            null
        );
        return (
            true,
            await SendAsync(Kept(notice, found, $"try-{now.ToUnixTimeMilliseconds()}-{found.Id}"), found, told, ct)
        );
    }

    public async ValueTask DisposeAsync()
    {
        await _ending.CancelAsync();
        await _work;
        _ending.Dispose();
        _news.Dispose();
    }
}
