// An empty service of the same framework, as the yardstick of a cold start.
var builder = WebApplication.CreateSlimBuilder(args);
builder.Logging.SetMinimumLevel(LogLevel.Warning);
var app = builder.Build();
app.MapGet("/health/live", () => Results.Ok());
app.Run();
