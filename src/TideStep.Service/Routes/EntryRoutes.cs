using TideStep.Service.Access;

namespace TideStep.Service.Routes;

/// <summary>How a browser comes in: a one-time link becomes a cookie.</summary>
public static class EntryRoutes
{
    public static void MapEntry(this WebApplication app, AccessKey key)
    {
        app.MapGet("/enter/{ticket}", (HttpContext http, string ticket) =>
            {
                if (!key.Redeem(ticket))
                    return Answers.Problem(
                        410,
                        new Core.Documents.Problem(
                            "this link has been used or is too old",
                            null,
                            "Make a new one with 'tidestep console link'."
                        )
                    );
                http.Response.Cookies.Append(
                    AccessRules.Cookie,
                    key.Value,
                    new CookieOptions
                    {
                        HttpOnly = true,
                        SameSite = SameSiteMode.Strict,
                        IsEssential = true,
                        MaxAge = TimeSpan.FromDays(30),
                    }
                );
                return Results.Redirect("/");
            })
            .ExcludeFromDescription();
        app.MapGet("/schemas/{kind}", (string kind) =>
                typeof(EntryRoutes).Assembly.GetManifestResourceStream($"schemas/{kind}.schema.json") is { } schema
                    ? Results.Stream(schema, "application/schema+json")
                    : Answers.Problem(
                        404,
                        new Core.Documents.Problem(
                            $"there is no schema '{kind}'",
                            null,
                            "Known: estate, product, readings, goal, path."
                        )
                    )
            )
            .Produces<string>(200, "application/schema+json")
            .WithSummary("The JSON Schema of a kind of document");
        app.MapPost("/api/links", (HttpContext http) =>
                new LinkView($"http://{http.Request.Host}/enter/{key.NewTicket()}")
            )
            .WithSummary("A one-time link into the console");
    }
}
