using Microsoft.Extensions.FileProviders;
using TideStep;
using TideStep.Connectors;
using TideStep.Connectors.Notices;
using TideStep.Connectors.Ssh;
using TideStep.Core.Documents;
using TideStep.Engine;
using TideStep.Engine.Artefacts;
using TideStep.Engine.Estates;
using TideStep.Engine.Keeping;
using TideStep.Engine.Notices;
using TideStep.Engine.People;
using TideStep.Engine.Plans;
using TideStep.Engine.Points;
using TideStep.Engine.Runs;
using TideStep.Engine.Surveys;
using TideStep.Service;
using TideStep.Service.Access;
using TideStep.Service.Routes;
using TideStep.Service.Watching;
using TideStep.Service.World;
using TideStep.Storage;
using TideStep.Tables;

if (ServiceOptions.Answered(args) is { } answered)
    return answered;
var builder = WebApplication.CreateSlimBuilder(args);

// a start that fails is said below
builder.Logging.SetMinimumLevel(LogLevel.Warning).AddFilter("Microsoft.Extensions.Hosting", LogLevel.None);
ServiceSettings settings;
SqlStore store;
AccessKey key;
ServedCertificate? certificate = null;
var time = ShiftedClock.OfProcess;
try
{
    settings = ServiceSettings.From(builder.Configuration);
    if (settings.Doors is { Certificate: { } shown } doors)
    {
        certificate = new ServedCertificate(shown, doors.CertificateKey ?? shown, time, Console.Error.WriteLine);
        certificate.Open();
    }
    OwnFiles.Begin(settings.Data);
    foreach (var own in new[] { "secrets", "artefacts" })
        Directory.CreateDirectory(Path.Combine(settings.Data, own));
    key = AccessKey.Open(settings.Data, time);
    store = settings.Database is { } text
        ? new PostgresStore(text)
        : new SqliteStore(Path.Combine(settings.Data, ServiceSettings.DatabaseFile));
}
catch (Exception e) when (e is StoreUnavailableException or FormatException)
{
    Console.Error.WriteLine(e.Message);
    return 3;
}
catch (Exception e) when (e is IOException or UnauthorizedAccessException)
{
    Console.Error.WriteLine($"the data folder can't be used: {e.Message}\nName another with --data.");
    return 3;
}

var engine = new EngineSettings(
    settings.Pace,
    TimeSpan.FromMilliseconds(settings.Pace > 1 ? 50 : 200),
    64,
    Path.Combine(settings.Data, "artefacts")
)
{
    NodeLimit = settings.NodeLimit,
};
var http = new HttpClient(
    new SocketsHttpHandler { PooledConnectionLifetime = TimeSpan.FromMinutes(5), MaxConnectionsPerServer = 64 }
);
var outgoing = new HttpClient(Outgoing.Handler([settings.Port, .. settings.Doors.Listen.Select(l => l.Port)]));
var vault = new SecretVault(
    Path.Combine(settings.Data, "vault.json"),
    settings.VaultKey ?? Path.Combine(settings.Data, "vault.key")
);
var secrets = new Secrets(Path.Combine(settings.Data, "secrets"), vault);
var databases = new SqlConnector(secrets);
var appliances = new HttpConnector(secrets, settings.Data);
var ssh = new SshConnector(secrets, settings.Data, new HttpReader(http), databases, time);
var standIns = new StandInConnector(http, time);
var journal = EndedByForce.Watching<IJournal>(store);
var reader = new MemberReader(
    [EndedByForce.Watching<IConnector>(standIns), ssh, appliances, databases, new PersonConnector()],
    engine,
    time
);
var feed = new RunFeed();
var estates = new EstateDesk(store, reader, time);
var library = new ArtefactLibrary(Path.Combine(settings.Data, "artefacts"), store, time);
var signing = new SignOffDesk(store, time);
var rehearsals = new RehearsalDesk(estates, store, time);
var (carried, readiness) = (new CarriedRuns(), new Readiness(rehearsals, signing, time));
var checks = new CheckDesk(estates, store, time)
{
    Library = library.HeldAsync,
    OwnVersion = ServiceSettings.Version,
    Secret = secrets.Problem,
    Reserved = carried.Reserved,
    NotReady = readiness.MissingAsync,
};
var fetching = new Fetching(library, outgoing, time);
var staging = new Staging(library, [ssh, standIns], time);
var installation = await store.SettingAsync(
    "installation",
    () => "t" + Guid.NewGuid().ToString("N")[..12],
    CancellationToken.None
);

builder
    .Services.AddSingleton(settings)
    .AddSingleton(key)
    .AddSingleton(time)
    .AddSingleton(journal)
    .AddSingleton<IDocumentStore>(store)
    .AddSingleton<INoticeStore>(store)
    .AddSingleton<IRunLines>(store)
    .AddSingleton<RunList>()
    .AddSingleton<PlanList>()
    .AddSingleton(feed)
    .AddSingleton(estates)
    .AddSingleton(checks)
    .AddSingleton<Idempotency>()
    .AddSingleton<IAccessStore>(store)
    .AddSingleton<AccessDesk>()
    .AddSingleton<AccessRules>()
    .AddSingleton<SignInPace>()
    .AddSingleton<LettingIn>()
    .AddSingleton<ActionRecord>()
    .AddSingleton(new Searches(time))
    .AddSingleton(library)
    .AddSingleton(fetching)
    .AddSingleton(staging)
    .AddSingleton(new Uploads(library, time))
    .AddSingleton(new ArtefactNeeds(store, store, time))
    .AddSingleton(vault)
    .AddSingleton(signing)
    .AddSingleton(rehearsals);
builder.Services.AddSingleton(services => new SurveySchedule(estates, store, time, (what, error) =>
    services.GetRequiredService<ILoggerFactory>().CreateLogger("TideStep.Surveys").LogWarning(error, "{What}", what)
));
builder.Services.AddSingleton(services => new RunDesk(
    estates,
    journal,
    store,
    feed,
    reader,
    engine,
    time,
    installation,
    $"{Environment.MachineName}/{Environment.ProcessId}",
    (what, error) =>
        services.GetRequiredService<ILoggerFactory>().CreateLogger("TideStep.Runs").LogWarning(error, "{What}", what)
)
{
    Checks = checks,
    SignOffs = signing,
    Readiness = readiness,
    Carried = carried,
    TakesUp = true,
    Mask = secrets.Mask,
    Snapshots = new Snapshots(store, (what, error) =>
        services.GetRequiredService<ILoggerFactory>().CreateLogger("TideStep.Runs").LogWarning(error, "{What}", what)
    ),
});
builder.Services.AddSingleton(services => new ViewFeeds(
    services.GetRequiredService<RunFeed>(),
    (page, ct) => page.LookAsync(services.GetRequiredService<RunDesk>(), settings.Pace, ct),
    time,
    (what, error) =>
        services
            .GetRequiredService<ILoggerFactory>()
            .CreateLogger("TideStep.Watching")
            .LogWarning(error, "{What}", what)
));
builder.Services.AddSingleton(services => new RunTraces(services.GetRequiredService<RunDesk>(), store));
builder.Services.AddSingleton(services => new PointDesk(
    services.GetRequiredService<RunDesk>(),
    services.GetRequiredService<RunTraces>(),
    estates,
    reader,
    journal,
    engine,
    time,
    installation
));
builder.Services.AddSingleton(services => new ReturnDesk(
    services.GetRequiredService<RunDesk>(),
    estates,
    services.GetRequiredService<PointDesk>(),
    reader
));
builder.Services.AddSingleton(services => new FollowUpDesk(services.GetRequiredService<RunTraces>(), store, time));
builder.Services.AddSingleton<IKeeping>(store);
builder.Services.AddSingleton(services => new Tidying(
    store,
    store,
    journal,
    services.GetRequiredService<RunDesk>(),
    services.GetRequiredService<FollowUpDesk>(),
    estates,
    time,
    (what, error) =>
        services.GetRequiredService<ILoggerFactory>().CreateLogger("TideStep.Keeping").LogWarning(error, "{What}", what)
)
{
    ForgetRecordAsync = store.ForgetRecordAsync,
    ForgetSessionsAsync = services.GetRequiredService<AccessDesk>().ForgetEndedAsync,
});
builder.Services.AddSingleton(services => new NoticeDesk(
    store,
    store,
    services.GetRequiredService<RunDesk>(),
    estates,
    new WebhookSender(outgoing, secrets, time),
    new MailSender(secrets),
    feed,
    engine,
    time,
    installation,
    (what, error) =>
        services.GetRequiredService<ILoggerFactory>().CreateLogger("TideStep.Notices").LogWarning(error, "{What}", what)
)
{
    LinkOf = run => $"{settings.ForPeople}/runs/{run}",
    Invitation = (plan, title, from, people) => CalendarFile.Invitation(plan, title, plan.Digest, from, people),
});
Requests.Configure(builder.Services);
builder.Services.AddProblemDetails().AddExceptionHandler<Unkept>();
builder.Services.Configure<HostOptions>(host => host.ShutdownTimeout = TimeSpan.FromSeconds(5));

// The console's own files; what the service answers is read on the same machine, mostly.
builder.Services.AddResponseCompression(files =>
    (files.EnableForHttps, files.MimeTypes) = (true, ["text/html", "text/css", "text/javascript"])
);
builder.Services.AddOpenApi(document =>
    document.AddSchemaTransformer(OpenApiShapes.ShapeAsync).AddDocumentTransformer(OpenApiShapes.FinishAsync)
);
builder.WebHost.ConfigureKestrel(kestrel => Listening.Configure(kestrel, settings, certificate));

var app = builder.Build();
app.UseExceptionHandler();

// Readers reckon "now" from the service's own clock.
app.Use(
    (context, next) =>
    {
        context.Response.Headers.Date = time.GetUtcNow().ToString("R");
        return next(context);
    }
);
app.UseStatusCodePages();
Arrivals.Use(app, settings.Doors, certificate);
app.Use(Requests.KnownCharset);
app.Use(app.Services.GetRequiredService<ActionRecord>().PassAsync);
app.Use(app.Services.GetRequiredService<AccessRules>().PassAsync);
using var large = new LargeRequests();
app.Use(large.PassAsync);
app.UseResponseCompression();
if (settings.Console is { } console)
{
    var files = new PhysicalFileProvider(Path.GetFullPath(console));
    app.UseDefaultFiles(new DefaultFilesOptions { FileProvider = files });
    app.UseStaticFiles(
        new StaticFileOptions
        {
            FileProvider = files,
            // What has its content in its name never changes; the page that names it is asked for each time.
            OnPrepareResponse = file =>
                file.Context.Response.Headers.CacheControl = file.Context.Request.Path.StartsWithSegments("/assets")
                    ? "public, max-age=31536000, immutable"
                    : "no-cache",
        }
    );
}
app.MapGet("/health/live", () => Results.Ok(new { alive = true }));

// Ready means that the runs of before are in hand again: what is said of one right after a start is not refused.
// What can't be written can't be carried out: a write is tried, and room is looked at.
app.MapGet("/health/ready", async (IJournal journal, RunDesk runs, CancellationToken ct) =>
{
    if (!runs.TookUp)
        return Results.Json(new { ready = false, why = "runs of before are being taken up" }, statusCode: 503);
    if (Room.Missing(settings.Data) is { } missing)
        return Answers.Problem(507, missing);
    await store.TryWriteAsync(ct);
    return Results.Ok(new { ready = true, position = await journal.LastPositionAsync(ct) });
});
app.MapOpenApi();
app.MapEntry(key);
var api = app.MapGroup("/api");
api.MapEstate();
api.MapDocuments();
api.MapTables();
api.MapPlans();
api.MapChecks();
api.MapSurveys();
api.MapMembers();
api.MapArtefacts();
api.MapSecrets();
api.MapRuns();
api.MapHalts();
api.MapRunLogs();
api.MapWatching();
api.MapSignOffs();
api.MapNotices();
api.MapFollowUps();
api.MapKeeping();
api.MapRehearsals();
api.MapPoints();
api.MapPeople();
api.MapLettingIn();
api.MapRecord();
api.MapGet("/service", () =>
        new ServiceView(ServiceSettings.Version, installation, settings.Pace, settings.Guide is not null)
    )
    .WithSummary("This service");
api.MapGet("/guide", (CancellationToken ct) => GuideRoute.AnswerAsync(settings, ct))
    .WithSummary("What to try here, where the service was started with a guide")
    .Produces<GuideView>()
    .ProducesProblem(404);
if (settings.Console is { } folder)
    app.MapFallback(
        (HttpContext context) =>
            context.Request.Path.StartsWithSegments("/api")
                ? Results.NotFound()
                : Results.File(Path.GetFullPath(Path.Combine(folder, "index.html")), "text/html")
    );

try
{
    await app.StartAsync();
}
catch (IOException e)
{
    Console.Error.WriteLine(
        $"the service can't listen on port {settings.Port}: {e.Message}\nChoose another with --port or --listen."
    );
    await store.DisposeAsync();
    return 3;
}
Console.WriteLine($"Tide Step: {app.Urls.First()}/enter/{key.NewTicket()}");
foreach (var door in app.Urls.Skip(1))
    Console.WriteLine($"Listening on {door}");
var desk = app.Services.GetRequiredService<RunDesk>();
await desk.ResumeAsync(CancellationToken.None);
var schedule = app.Services.GetRequiredService<SurveySchedule>();
schedule.Start();
var notices = app.Services.GetRequiredService<NoticeDesk>();
notices.Start();
var tidying = app.Services.GetRequiredService<Tidying>();
tidying.Start();
await app.WaitForShutdownAsync();
await schedule.DisposeAsync();
await notices.DisposeAsync();
await tidying.DisposeAsync();
await staging.DisposeAsync();
await fetching.DisposeAsync();
await desk.DisposeAsync();
await store.DisposeAsync();
ssh.Dispose();
appliances.Dispose();
await databases.DisposeAsync();
return 0;
