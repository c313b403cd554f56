using System.CommandLine;
using System.Security.Cryptography;
using System.Text.Json.Nodes;
using TideStep.Client;
using TideStep.Client.Shapes;
using TideStep.Core.Documents;
using TideStep.Core.Expressions;

namespace TideStep.Cli.Commands;

/// <summary><c>tidestep artefact</c>: the files that upgrades need, brought into the library and laid ready on
/// nodes.</summary>
public static class ArtefactCommands
{
    public static Command Create(Context context)
    {
        var artefact = new Command("artefact", "Artefacts: packages, images and other files that upgrades need");
        var name = new Argument<string>("name") { Description = "the artefact's name" };
        artefact.Subcommands.Add(
            context.Remote(
                "list",
                "What is in the library, what plans miss, where each is staged, and what may go",
                async (_, client, output, ct) =>
                {
                    var library = await client.GetAsync<LibraryView>("/api/artefacts", ct);
                    output.Write(
                        library,
                        () =>
                        {
                            output.Table(
                                ["artefact", "size", "whole", "staged on", "needed by", "kind", "from"],
                                library.Artefacts.Select(a =>
                                    new[]
                                    {
                                        a.Name,
                                        Units.WriteBytes(a.Bytes),
                                        a.Whole ? "yes" : "no: changed",
                                        a.Staged.Count == 0 ? ""
                                        : a.Staged.Count > 2 ? $"{a.Staged.Count} nodes"
                                        : string.Join(", ", a.Staged),
                                        a.SafeToRemove
                                            ? "nothing: may go"
                                            : $"{a.NeededBy.Count} plan{(a.NeededBy.Count == 1 ? "" : "s")}",
                                        a.Kind,
                                        a.Origin,
                                    }
                                )
                            );
                            foreach (var missing in library.Missing)
                                output.Line(
                                    $"missing: {missing.Name}, for {missing.Nodes} "
                                        + $"node{(missing.Nodes == 1 ? "" : "s")} of plan "
                                        + $"{string.Join(", ", missing.Plans.Select(PlanCommands.Short))}"
                                );
                            foreach (var fetch in library.Fetching.Where(f => f.State != "done"))
                                output.Line(
                                    $"{fetch.State}: {fetch.Name}, {Units.WriteBytes(fetch.Here)}"
                                        + $"{(fetch.All is { } all ? $" of {Units.WriteBytes(all)}" : "")}"
                                        + $"{(fetch.Why is { } why ? $": {why}" : "")}"
                                );
                        },
                        library.Artefacts
                    );
                    return Exit.Done;
                }
            )
        );
        artefact.Subcommands.Add(
            context.Remote(
                "show",
                "An artefact with its checksum and where it lies",
                async (result, client, output, ct) =>
                {
                    var line = await client.GetAsync<ArtefactLine>(
                        $"/api/artefacts/{Uri.EscapeDataString(result.GetValue(name)!)}",
                        ct
                    );
                    output.Write(line, () =>
                    {
                        output.Heading(
                            $"{line.Name}  {line.Kind}, {Units.WriteBytes(line.Bytes)}"
                                + $"{(line.Whole ? "" : ", no more what it was when it came in")}"
                        );
                        output.Line($"  sha256 {line.Sha256}");
                        output.Line(
                            $"  from {line.Origin}{(line.By.Length > 0 ? $", by {line.By}" : "")}, "
                                + $"{line.Added.ToLocalTime():yyyy-MM-dd HH:mm}"
                                + $"{(line.Version is { } version ? $"; version {version}" : "")}"
                                + $"{(line.Variant is { } variant ? $"; for {variant}" : "")}"
                        );
                        output.Line(
                            line.Staged.Count == 0
                                ? "  staged nowhere"
                                : $"  staged on {string.Join(", ", line.Staged)}"
                        );
                        output.Line(
                            line.SafeToRemove
                                ? "  no plan needs it: it may go"
                                : $"  needed by plan {string.Join(", ", line.NeededBy.Select(PlanCommands.Short))}"
                        );
                    });
                    return line.Whole ? Exit.Done : Exit.No;
                },
                name
            )
        );
        artefact.Subcommands.Add(Add(context));
        artefact.Subcommands.Add(FetchOne(context));
        artefact.Subcommands.Add(Stage(context));
        artefact.Subcommands.Add(
            context.Remote("staging", "How the last staging stands", async (_, client, output, ct) =>
                ShowStaging(await client.GetAsync<StagingView>("/api/artefacts/staging", ct), output)
            )
        );
        var anyway = new Option<bool>("--anyway") { Description = "even if a plan needs it" };
        artefact.Subcommands.Add(
            context.Remote(
                "remove",
                "Give an artefact up; refused while a plan needs it",
                async (result, client, output, ct) =>
                {
                    await client.DeleteAsync(
                        $"/api/artefacts/{Uri.EscapeDataString(result.GetValue(name)!)}"
                            + $"{(result.GetValue(anyway) ? "?anyway=true" : "")}",
                        ct
                    );
                    output.Line($"{result.GetValue(name)} is gone.");
                    return Exit.Done;
                },
                name,
                anyway
            )
        );
        return artefact;
    }

    private static Command Add(Context context)
    {
        var files = new Argument<string[]>("files")
        {
            Description = "files, or folders of them",
            Arity = ArgumentArity.OneOrMore,
        };
        var sha256 = new Option<string?>("--sha256") { Description = "what the checksum of the one file must be" };
        var (version, variant, signature) = (
            new Option<string?>("--version-of") { Description = "the version that it brings" },
            new Option<string?>("--variant") { Description = "the host variant that it is for" },
            new Option<string?>("--signature") { Description = "a file with its maker's signature, kept beside it" }
        );
        return context.Remote(
            "add",
            "Upload files into the library; what broke off before is gone on with",
            async (result, client, output, ct) =>
            {
                var given = result.GetValue(files)!;
                var all = given
                    .SelectMany(f =>
                        Directory.Exists(f)
                            ? Directory.EnumerateFiles(f).Order(StringComparer.Ordinal)
                            : (IEnumerable<string>)[f]
                    )
                    .ToList();
                if (all.FirstOrDefault(f => !File.Exists(f)) is { } gone)
                    throw new MisusedException([new Problem($"there is no file {gone}")]);
                if (
                    result.GetValue(sha256) is { } asked
                    && (all.Count != 1 || asked.Length != 64 || !asked.All(char.IsAsciiHexDigit))
                )
                    throw new MisusedException([
                        new Problem("--sha256 is the checksum of one file, in 64 hexadecimal digits"),
                    ]);
                foreach (var file in all)
                {
                    var sum = result.GetValue(sha256);
                    if (sum is null)
                    {
                        await using var read = File.OpenRead(file);
                        sum = Convert.ToHexStringLower(await SHA256.HashDataAsync(read, ct));
                    }
                    var about = new Dictionary<string, string>
                    {
                        ["filename"] = Path.GetFileName(file),
                        ["sha256"] = sum,
                    };
                    if (result.GetValue(version) is { } v)
                        about["version"] = v;
                    if (result.GetValue(variant) is { } w)
                        about["variant"] = w;
                    if (result.GetValue(signature) is { } s)
                        about["signature"] = await File.ReadAllTextAsync(s, ct);
                    var length = new FileInfo(file).Length;
                    await client.UploadAsync(
                        file,
                        about,
                        sent =>
                            output.Progress(
                                $"{Path.GetFileName(file)}: {(length == 0 ? 100 : sent * 100 / length)} % of "
                                    + $"{Units.WriteBytes(length)}"
                            ),
                        ct
                    );
                    output.EndProgress();
                    output.Line($"{Path.GetFileName(file)}  {Units.WriteBytes(length)}  sha256 {sum[..16]}…");
                }
                return Exit.Done;
            },
            files,
            sha256,
            version,
            variant,
            signature
        );
    }

    private static Command FetchOne(Context context)
    {
        var url = new Argument<string>("url")
        {
            Description = "where to fetch it from; the service fetches, not this machine",
        };
        var (name, sha256) = (
            new Option<string?>("--name")
            {
                Description = "its name in the library (default: the last part of the address)",
            },
            new Option<string?>("--sha256") { Description = "what its checksum must be" }
        );
        return context.Remote(
            "fetch",
            "Have the service fetch a file from an address into the library",
            async (result, client, output, ct) =>
            {
                var begun = await client.PostAsync(
                    "/api/artefacts/fetch",
                    new
                    {
                        url = result.GetValue(url),
                        name = result.GetValue(name),
                        sha256 = result.GetValue(sha256),
                    },
                    ct
                );
                var place = $"/api/artefacts/fetch/{Uri.EscapeDataString((string)begun!["name"]!)}";
                var standing = await client.GetAsync<FetchStanding>(place, ct);
                for (; standing.State == "fetching"; standing = await client.GetAsync<FetchStanding>(place, ct))
                {
                    output.Progress(
                        $"{standing.Name}: {Units.WriteBytes(standing.Here)}"
                            + $"{(standing.All is { } all ? $" of {Units.WriteBytes(all)}" : "")}"
                    );
                    await Task.Delay(300, ct);
                }
                output.EndProgress();
                output.Write(standing, () =>
                    output.Line(
                        standing.State == "done"
                            ? $"{standing.Name}  {Units.WriteBytes(standing.Here)} fetched"
                            : $"{standing.Name} was not fetched: {standing.Why}"
                    )
                );
                return standing.State == "done" ? Exit.Done : Exit.No;
            },
            url,
            name,
            sha256
        );
    }

    private static Command Stage(Context context)
    {
        var plan = new Argument<string?>("plan")
        {
            Description = "a plan: what it wants goes where it wants it",
            DefaultValueFactory = _ => null,
        };
        var (artefacts, nodes) = (
            new Option<string[]>("--artefact")
            {
                Description = "only these, or these where no plan is named",
                AllowMultipleArgumentsPerToken = true,
            },
            new Option<string[]>("--node")
            {
                Description = "only on these nodes",
                AllowMultipleArgumentsPerToken = true,
            }
        );
        var pace = new Option<string?>("--pace") { Description = "at most so much a second for each node, as in 5 MB" };
        return context.Remote(
            "stage",
            "Lay artefacts ready on nodes ahead of time, without effect there",
            async (result, client, output, ct) =>
            {
                long? bytes = null;
                if (result.GetValue(pace) is { } written && (bytes = (long?)Units.TryBytes(written)) is null or <= 0)
                    throw new MisusedException([
                        new Problem(
                            $"--pace: '{written}' is no size",
                            null,
                            "Write it like 5 MB; it counts for each second."
                        ),
                    ]);
                var view = System.Text.Json.JsonSerializer.Deserialize<StagingView>(
                    await client.PostAsync(
                        "/api/artefacts/staging",
                        new
                        {
                            plan = result.GetValue(plan),
                            artefacts = result.GetValue(artefacts),
                            nodes = result.GetValue(nodes),
                            bytesPerSecond = bytes,
                        },
                        ct
                    ),
                    Json.Options
                )!;
                while (view.Ended is null)
                {
                    output.Progress(
                        $"staged {view.Lines.Count(l => l.State == "staged")} of {view.Lines.Count}, "
                            + $"{Units.WriteBytes(view.Lines.Sum(l => l.Sent))} of "
                            + $"{Units.WriteBytes(view.Lines.Sum(l => l.Bytes))}"
                    );
                    await Task.Delay(300, ct);
                    view = await client.GetAsync<StagingView>($"/api/artefacts/staging/{view.Id}", ct);
                }
                output.EndProgress();
                return ShowStaging(view, output);
            },
            plan,
            artefacts,
            nodes,
            pace
        );
    }

    private static int ShowStaging(StagingView view, Output output)
    {
        output.Write(
            view,
            () =>
                output.Table(
                    ["artefact", "node", "standing", "sent", "of", "why"],
                    view.Lines.Select(l =>
                        new[]
                        {
                            l.Artefact,
                            l.Node,
                            l.State,
                            Units.WriteBytes(l.Sent),
                            Units.WriteBytes(l.Bytes),
                            l.Why ?? "",
                        }
                    )
                ),
            view.Lines
        );
        return view.Lines.Any(l => l.State == "failed") ? Exit.No : Exit.Done;
    }
}
