using System.CommandLine;
using System.Text.Json.Nodes;
using TideStep.Core.Documents;
using TideStep.Core.Estates;

namespace TideStep.Cli.Commands;

/// <summary><c>tidestep estate</c>, <c>catalogue</c>, <c>profile</c> and <c>console</c>.</summary>
public static class EstateCommands
{
    public static IEnumerable<Command> Create(Context context)
    {
        var files = new Argument<string[]>("files")
        {
            Description = "documents, or folders of them",
            Arity = ArgumentArity.OneOrMore,
        };
        var estate = new Command("estate", "The estate: import its documents, show it");
        estate.Subcommands.Add(
            context.Remote(
                "import",
                "Import documents of any kind, all or none; earlier revisions are kept",
                async (result, client, output, ct) =>
                {
                    var problems = new List<Problem>();
                    var documents = result
                        .GetValue(files)!
                        .SelectMany(f => Files.CatalogueFiles(f, problems))
                        .Select(f => new { name = f, text = Files.Text(f, problems) })
                        .ToList();
                    if (problems.Count > 0)
                        throw new MisusedException(problems);
                    var saved = (JsonArray)(await client.PostAsync("/api/documents", new { documents }, ct))!;
                    var found = await client.GetAsync<List<Problem>>("/api/catalogue/findings", ct);
                    output.Write(saved, () =>
                    {
                        output.Table(
                            ["kind", "id", "revision"],
                            saved.Select(s =>
                                new[] { (string)s!["kind"]!, (string)s["id"]!, s["revision"]!.ToString() }
                            )
                        );
                        foreach (var problem in found)
                            output.Line($"to look at: {problem}");
                    });
                    return Exit.Done;
                },
                files
            )
        );
        var members = new Option<bool>("--members") { Description = "every member, not only the components" };
        estate.Subcommands.Add(
            context.Remote(
                "show",
                "Components with the versions last read",
                async (result, client, output, ct) =>
                {
                    var view = await client.GetAsync<JsonObject>("/api/estate", ct);
                    output.Write(view, () => Show(view, output, result.GetValue(members)));
                    return Exit.Done;
                },
                members
            )
        );
        estate.Subcommands.Add(
            context.Remote(
                "drift",
                "What stands out of line, expected and found side by side",
                async (_, client, output, ct) =>
                    Differences(
                        await client.GetAsync<List<Difference>>("/api/estate/drift", ct),
                        "Nothing stands out of line.",
                        output
                    )
            )
        );
        estate.Subcommands.Add(FreezeCommand.Create(context));
        var survey = SurveyCommands.Create(context);
        var name = new Option<string?>("--name") { Description = "the name that stands on everything you do" };
        var server = new Option<string?>("--use-server") { Description = "the service to call from now on" };
        var profile = new Command("profile", "Who you are and which service you call");
        profile.Subcommands.Add(
            context.Command(
                "set",
                "Set your name, or the service",
                (result, output, _) =>
                {
                    var now = Profile.Load();
                    var next = now with
                    {
                        Name = result.GetValue(name) ?? now.Name,
                        Server = result.GetValue(server) ?? now.Server,
                    };
                    next.Save();
                    output.Write(next with { Keys = next.Keys.Clear() }, () =>
                        output.Line($"name: {next.Name ?? "not set"}; service: {next.Server ?? "this machine's own"}")
                    );
                    return Task.FromResult(Exit.Done);
                },
                name,
                server
            )
        );
        profile.Subcommands.Add(context.Command("show", "Show them", (_, output, _) =>
            {
                var now = Profile.Load();
                output.Write(now with { Keys = now.Keys.Clear() }, () =>
                    output.Line($"name: {now.Name ?? "not set"}; service: {now.Server ?? "this machine's own"}")
                );
                return Task.FromResult(Exit.Done);
            }));
        var console = new Command("console", "The web console");
        console.Subcommands.Add(
            context.Remote("link", "A one-time link into the console", async (_, client, output, ct) =>
            {
                var link = (JsonObject)(await client.PostAsync("/api/links", null, ct))!;
                output.Write(link, () => output.Line((string)link["link"]!));
                return Exit.Done;
            })
        );
        var catalogue = new Command("catalogue", "The catalogue: products, releases, jumps");
        catalogue.Subcommands.Add(
            context.Remote("show", "Products with their releases and jumps", async (_, client, output, ct) =>
            {
                var products = await client.GetAsync<JsonArray>("/api/catalogue", ct);
                output.Write(products, () =>
                    output.Table(
                        ["product", "title", "releases", "jumps"],
                        products.Select(p =>
                            new[]
                            {
                                (string)p!["id"]!,
                                (string)p["title"]!,
                                string.Join(", ", ((JsonArray)p["releases"]!).Select(r => (string)r!["label"]!)),
                                string.Join(", ", ((JsonArray)p["jumps"]!).Select(j => $"{j!["from"]} to {j["to"]}")),
                            }
                        )
                    )
                );
                return Exit.Done;
            })
        );
        catalogue.Subcommands.Add(MatrixCommand.Create(context));
        catalogue.Subcommands.Add(ChangesCommand.Create(context));
        catalogue.Subcommands.Add(CheckCommand.Create(context));
        catalogue.Subcommands.Add(ImportCommand.Create(context));
        return [estate, survey, catalogue, profile, console];
    }

    internal static int Differences(List<Difference> differences, string none, Output output)
    {
        output.Write(differences, () =>
        {
            if (differences.Count == 0)
                output.Line(none);
            else
                output.Table(
                    ["what", "value", "expected", "found", "against"],
                    differences.Select(d => new[] { d.Subject, d.Value, d.Expected, d.Found, d.Against })
                );
        });
        return differences.Count == 0 ? Exit.Done : Exit.No;
    }

    private static void Show(JsonObject view, Output output, bool members)
    {
        output.Heading(
            $"{view["title"]} ({view["estate"]}, {view["class"]})  surveyed: "
                + (
                    view["surveyed"] is { } at
                        ? DateTimeOffset.Parse(at.ToString()).ToLocalTime().ToString("yyyy-MM-dd HH:mm:ss zzz")
                        : "never"
                )
        );
        var rows = new List<string[]>();
        foreach (var component in (JsonArray)view["components"]!)
        {
            var list = (JsonArray)component!["members"]!;
            rows.Add([
                (string)component["component"]!,
                (string)component["versions"]!,
                list.Count(m => (string?)m!["unreached"] is not null) is > 0 and var lost ? $"{lost} not read"
                : (bool)component["mixed"]! ? "mixed"
                : "",
                $"{list.Count(m => (bool)m!["inService"]!)} of {list.Count}",
                (string)component["product"]!,
                (string?)component["site"] ?? "several",
            ]);
            if (members)
                foreach (var m in list)
                    rows.Add([
                        "  " + m!["node"],
                        (string?)m["running"] ?? ((string?)m["lastKnown"] is { } last ? $"was {last}" : "unknown"),
                        (string?)m["unreached"] is not null ? "not read"
                        : (string?)m["installed"] is { } i && i != (string?)m["running"] ? $"{i} installed"
                        : "",
                        (bool)m["inService"]! ? "in service" : "out",
                        (string?)m["role"] ?? "",
                        $"{m["site"]} {m["domain"]}",
                    ]);
        }
        output.Table(["component", "runs", "standing", "in service", "product", "site"], rows);
    }
}
