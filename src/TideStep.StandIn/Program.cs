using TideStep.Core.Estates;
using TideStep.StandIn;

if (FleetOptions.Answered(args) is { } answered)
    return answered;

// The stand-in fleet: simulated nodes behind an HTTP API, reached over the network like real ones.
var builder = WebApplication.CreateSlimBuilder(args);
builder.Logging.SetMinimumLevel(LogLevel.Warning);
string Setting(string name, string otherwise) => builder.Configuration[name] ?? otherwise;

var (estatePath, readingsPath) = (Setting("estate", "demo/estate.yaml"), Setting("readings", "demo/readings.yaml"));
foreach (var path in new[] { estatePath, readingsPath })
    if (!File.Exists(path))
        return Fail([
            new TideStep.Core.Documents.Problem($"there is no file {path}", null, "See 'tidestep-standin --help'."),
        ]);
if (
    !double.TryParse(
        Setting("pace", "1"),
        System.Globalization.NumberStyles.Float,
        System.Globalization.CultureInfo.InvariantCulture,
        out var pace
    )
    || !(pace > 0)
    || !ushort.TryParse(Setting("port", "7471"), out _)
)
    return Fail([new TideStep.Core.Documents.Problem("the port or the pace is no number that could be meant")]);
var estate = EstateDocument.Read(File.ReadAllText(estatePath), estatePath);
if (!estate.Ok)
    return Fail(estate.Problems);
var readings = ReadingsDocument.Read(File.ReadAllText(readingsPath), readingsPath, estate.Value!);
if (!readings.Ok)
    return Fail(readings.Problems);
var fleet = new Fleet(estate.Value!, readings.Value!, pace);

builder.WebHost.UseUrls($"http://127.0.0.1:{Setting("port", "7471")}");
var app = builder.Build();
var nodes = app.MapGroup("/nodes/{id}")
    .AddEndpointFilter(
        async (context, next) =>
        {
            var http = context.HttpContext;
            if (fleet.Find((string)http.Request.RouteValues["id"]!) is not { } node)
                return Results.Problem("there is no such node", statusCode: 404);
            // A node that has lost contact does not answer; the connection just breaks.
            if (!node.Answers)
            {
                http.Abort();
                return Results.Empty;
            }
            http.Items["node"] = node;
            return await next(context);
        }
    );
SimulatedNode NodeOf(HttpContext http) => (SimulatedNode)http.Items["node"]!;

nodes.MapGet("/", (HttpContext http) => NodeOf(http).Report());
nodes.MapPut("/fence", (HttpContext http, FenceRequest request) => NodeOf(http).Raise(request));
nodes.MapPost("/attempts", (HttpContext http, AttemptRequest request) =>
    NodeOf(http).Begin(request) is { } why ? Results.Problem(why, statusCode: 409) : Results.Accepted()
);
nodes.MapPost("/attempts/{attempt}/stop", (HttpContext http, string attempt, StopRequest request) =>
    NodeOf(http).Stop(attempt, request) is { } why ? Results.Problem(why, statusCode: 409) : Results.NoContent()
);
nodes.MapGet("/attempts/{attempt}", (HttpContext http, string attempt, string installation) =>
    NodeOf(http).Status(installation, attempt)
);
nodes.MapPut("/readings", (HttpContext http, ReadingChange change) =>
    NodeOf(http).Set(change.Component, change.Name, change.Value)
        ? Results.NoContent()
        : Results.Problem($"the node has no member of {change.Component}", statusCode: 404)
);

nodes.MapPut("/artefacts/{name}", (HttpContext http, string name, StagedRequest file) =>
    NodeOf(http).Lay(name, file) is { } why ? Results.Problem(why, statusCode: 409) : Results.NoContent()
);
nodes.MapGet("/artefacts", (HttpContext http) => NodeOf(http).Laid());

app.MapGet("/", () => fleet.Nodes.Select(n => new { n.Id, n.Answers }));
app.MapGet("/record", (long? after) => fleet.Record.All.Where(d => d.Number > (after ?? 0)));

// What nodes have captured outlives a fleet: the next one is given it.
app.MapGet("/points", () => fleet.Nodes.Where(n => n.Captured().Count > 0).ToDictionary(n => n.Id, n => n.Captured()));
app.MapPut("/points", (Dictionary<string, Dictionary<string, CapturedState>> points) =>
{
    if (points.Keys.FirstOrDefault(id => fleet.Find(id) is null) is { } unknown)
        return Results.Problem($"there is no node {unknown}", statusCode: 404);
    foreach (var (node, places) in points)
    foreach (var (place, state) in places)
        fleet.Find(node)!.Hold(place, state);
    return Results.NoContent();
});
app.MapPost("/faults", (FaultRequest fault) =>
{
    if (fleet.Find(fault.Node) is not { } node)
        return Results.Problem("there is no such node", statusCode: 404);
    node.Fault(fault);
    return Results.NoContent();
});
app.MapDelete("/faults", () =>
{
    foreach (var node in fleet.Nodes)
        node.ClearFaults();
    return Results.NoContent();
});

try
{
    await app.StartAsync();
}
catch (IOException e)
{
    Console.Error.WriteLine(
        $"the stand-in fleet can't listen on port {Setting("port", "7471")}: {e.Message}\nChoose another with --port."
    );
    return 3;
}
Console.WriteLine($"stand-in fleet: {fleet.Nodes.Count()} nodes at {app.Urls.First()}");
await app.WaitForShutdownAsync();
return 0;

static int Fail(IEnumerable<TideStep.Core.Documents.Problem> problems)
{
    foreach (var problem in problems)
        Console.Error.WriteLine(problem);
    return 2;
}
