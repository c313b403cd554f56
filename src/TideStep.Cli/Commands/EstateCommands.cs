using System.CommandLine;
using System.Text.Json.Nodes;
using TideStep.Core.Documents;

namespace TideStep.Cli.Commands;

/// <summary><c>tidestep estate</c>, <c>catalogue</c>, <c>survey</c>, <c>profile</c> and <c>console</c>.</summary>
public static class EstateCommands
{
    private sealed record Member(string Id, string Running, string? Role, bool InService);

    public static IEnumerable<Command> Create(Context context)
    {
        var files = new Argument<string[]>("files") { Description = "documents, or folders of them", Arity = ArgumentArity.OneOrMore };
        var estate = new Command("estate", "The estate: import its documents, show it");
        estate.Subcommands.Add(context.Remote("import", "Import documents of any kind, all or none; earlier revisions are kept", async (result, client, output, ct) =>
        {
            var problems = new List<Problem>();
            var documents = result.GetValue(files)!.SelectMany(f => Files.CatalogueFiles(f, problems)).Select(f => new { name = f, text = Files.Text(f, problems) }).ToList();
            if (problems.Count > 0) throw new MisusedException(problems);
            var saved = (JsonArray)(await client.PostAsync("/api/documents", new { documents }, ct))!;
            output.Write(saved, () => output.Table(["kind", "id", "revision"], saved.Select(s => new[] { (string)s!["kind"]!, (string)s["id"]!, s["revision"]!.ToString() })));
            return Exit.Done;
        }, files));
        var members = new Option<bool>("--members") { Description = "every member, not only the components" };
        estate.Subcommands.Add(context.Remote("show", "Components with the versions last read", async (result, client, output, ct) =>
        {
            var view = await client.GetAsync<JsonObject>("/api/estate", ct);
            output.Write(view, () => Show(view, output, result.GetValue(members)));
            return Exit.Done;
        }, members));
        var survey = new Command("survey", "Surveys: read every member live");
        survey.Subcommands.Add(context.Remote("take", "Read every member live and keep the readings", async (_, client, output, ct) =>
        {
            var taken = (JsonObject)(await client.PostAsync("/api/surveys", null, ct))!;
            var unreached = (JsonArray)taken["unreached"]!;
            output.Write(taken, () =>
            {
                output.Line($"{taken["members"]} members read, {unreached.Count} not reached");
                if (unreached.Count > 0) output.Table(["member", "why"], unreached.Select(u => new[] { (string)u!["member"]!, (string)u["why"]! }));
            });
            return unreached.Count > 0 ? Exit.No : Exit.Done;
        }));
        var name = new Option<string?>("--name") { Description = "the name that stands on everything you do" };
        var server = new Option<string?>("--use-server") { Description = "the service to call from now on" };
        var profile = new Command("profile", "Who you are and which service you call");
        profile.Subcommands.Add(context.Command("set", "Set your name, or the service", (result, output, _) =>
        {
            var next = Profile.Load() is var now ? new Profile(result.GetValue(name) ?? now.Name, result.GetValue(server) ?? now.Server) : null;
            next!.Save();
            output.Write(next, () => output.Line($"name: {next.Name ?? "not set"}; service: {next.Server ?? "this machine's own"}"));
            return Task.FromResult(Exit.Done);
        }, name, server));
        profile.Subcommands.Add(context.Command("show", "Show them", (_, output, _) =>
        {
            var now = Profile.Load();
            output.Write(now, () => output.Line($"name: {now.Name ?? "not set"}; service: {now.Server ?? "this machine's own"}"));
            return Task.FromResult(Exit.Done);
        }));
        var console = new Command("console", "The web console");
        console.Subcommands.Add(context.Remote("link", "A one-time link into the console", async (_, client, output, ct) =>
        {
            var link = (JsonObject)(await client.PostAsync("/api/links", null, ct))!;
            output.Write(link, () => output.Line((string)link["link"]!));
            return Exit.Done;
        }));
        var catalogue = new Command("catalogue", "The catalogue: products, releases, jumps");
        catalogue.Subcommands.Add(context.Remote("show", "Products with their releases and jumps", async (_, client, output, ct) =>
        {
            var products = await client.GetAsync<JsonArray>("/api/catalogue", ct);
            output.Write(products, () => output.Table(["product", "title", "releases", "jumps"], products.Select(p => new[]
            {
                (string)p!["id"]!, (string)p["title"]!, string.Join(", ", ((JsonArray)p["releases"]!).Select(r => (string)r!["label"]!)), string.Join(", ", ((JsonArray)p["jumps"]!).Select(j => $"{j!["from"]} to {j["to"]}")),
            })));
            return Exit.Done;
        }));
        catalogue.Subcommands.Add(MatrixCommand.Create(context));
        catalogue.Subcommands.Add(ChangesCommand.Create(context));
        catalogue.Subcommands.Add(CheckCommand.Create(context));
        catalogue.Subcommands.Add(ImportCommand.Create(context));
        return [estate, survey, catalogue, profile, console];
    }

    private static void Show(JsonObject view, Output output, bool members)
    {
        output.Heading($"{view["title"]} ({view["estate"]}, {view["class"]})  surveyed: {(view["surveyed"] is { } at ? DateTimeOffset.Parse(at.ToString()).ToLocalTime().ToString("yyyy-MM-dd HH:mm:ss zzz") : "never")}");
        var rows = new List<string[]>();
        foreach (var component in (JsonArray)view["components"]!)
        {
            var list = (JsonArray)component!["members"]!;
            rows.Add([(string)component["component"]!, (string)component["versions"]!, (bool)component["mixed"]! ? "mixed" : "", $"{list.Count(m => (bool)m!["inService"]!)} of {list.Count}", (string)component["product"]!, (string?)component["site"] ?? "several"]);
            if (members) foreach (var m in list) rows.Add(["  " + m!["node"], (string?)m["running"] ?? "unknown", (string?)m["installed"] is { } i && i != (string?)m["running"] ? $"{i} installed" : "", (bool)m["inService"]! ? "in service" : "out", (string?)m["role"] ?? "", $"{m["site"]} {m["domain"]}"]);
        }
        output.Table(["component", "runs", "standing", "in service", "product", "site"], rows);
    }
}
