using System.CommandLine;
using System.Text.Json.Nodes;
using TideStep.Client;
using TideStep.Client.Shapes;
using TideStep.Core.Documents;
using TideStep.Core.Runs;

namespace TideStep.Cli.Commands;

/// <summary><c>tidestep run</c> and <c>tidestep point</c>: carry plans out, watch, hold, decide, report.</summary>
public static class RunCommands
{
    private static readonly Argument<string> Run = new("run") { Description = "the run's identifier" };

    public static IEnumerable<Command> Create(Context context)
    {
        var run = new Command("run", "Runs: start, follow, hold, decide, report");
        var plan = new Argument<string>("plan") { Description = "the plan's digest, or its beginning" };
        var label = new Option<string?>("--label") { Description = "what to call the run" };
        var startAt = new Option<string?>("--at")
        {
            Description =
                "begin nothing before this time, 03:30 or 2026-11-29 03:30, but what only lies ready; none "
                + "takes it back",
        };
        var follow = new Option<bool>("--follow") { Description = "follow it to its end or its next decision" };
        var reason = new Option<string?>("--reason") { Description = "why" };
        run.Subcommands.Add(
            context.Remote(
                "open",
                "Open a run of a plan; nothing begins yet",
                async (result, client, output, ct) =>
                    await OpenAsync(result, client, plan, label, start: false, ct) is { } id && Say(output, id)
                        ? Exit.Done
                        : Exit.No,
                plan,
                label
            )
        );
        run.Subcommands.Add(
            context.Remote(
                "start",
                "Start an opened run, or open and start one of a plan",
                async (result, client, output, ct) =>
                {
                    var given = result.GetValue(plan)!;
                    var id = given;
                    var when = result.GetValue(startAt);
                    var at = when is null or "none" ? (DateTimeOffset?)null : Times.Next(when);
                    if (given.StartsWith('r'))
                        await client.PostAsync($"/api/runs/{id}/start", new { at, notAtATime = when == "none" }, ct);
                    else
                        id = await OpenAsync(result, client, plan, label, start: true, ct, at);
                    if (result.GetValue(follow))
                        return await RunFollower.FollowAsync(client, id!, output, ct);
                    output.Write(new { run = id }, () =>
                        output.Line(
                            $"{id} has started"
                                + (
                                    at is { } begins
                                        ? $" and begins its work on {begins:yyyy-MM-dd} at {begins:HH:mm zzz}"
                                        : ""
                                )
                                + $"; follow it with: tidestep run follow {id}"
                        )
                    );
                    return Exit.Done;
                },
                plan,
                label,
                startAt,
                follow
            )
        );
        var (search, inState) = (
            new Option<string?>("--search")
            {
                Description = "words that are in the label, the goal, names of people or members, a halt or a reason",
            },
            new Option<string?>("--state") { Description = "only runs in this state, as in 'halted' or 'stopped-here'" }
        );
        var most = Lists.Most("runs");
        run.Subcommands.Add(
            context.Remote(
                "list",
                "Runs, newest first",
                async (result, client, output, ct) =>
                {
                    var query = string.Join(
                        '&',
                        new[]
                        {
                            result.GetValue(search) is { } words ? $"search={Uri.EscapeDataString(words)}" : null,
                            result.GetValue(inState) is { } state ? $"state={Uri.EscapeDataString(state)}" : null,
                        }.OfType<string>()
                    );
                    var (lines, more) = await client.ListAsync<RunLine>(
                        $"/api/runs?{query}",
                        result.GetValue(most),
                        ct
                    );
                    output.Write(lines, () =>
                        output.Table(
                            ["run", "state", "done %", "kind", "started", "by", "label", "waits"],
                            lines.Select(l =>
                                new[]
                                {
                                    l.Run,
                                    l.SetAside is null ? Orders.Word(l.Status) : "set aside",
                                    (l.Share * 100).ToString("0"),
                                    l.Kind,
                                    l.Started?.ToLocalTime().ToString("yyyy-MM-dd HH:mm:ss") ?? "-",
                                    l.By,
                                    l.Label,
                                    l.WaitsFor ?? "-",
                                }
                            )
                        )
                    );
                    foreach (var l in lines.Where(l => l.SetAside is not null && output.ForPeople))
                        output.Line($"{l.Run} is set aside: {l.SetAside}.");
                    Lists.TellMore(more, lines.Count, "runs");
                    return Exit.Done;
                },
                search,
                inState,
                most
            )
        );
        run.Subcommands.Add(
            context.Remote(
                "times",
                "What steps took in earlier runs; plans reckon with it from three times on",
                async (_, client, output, ct) =>
                {
                    var lines = await client.GetAsync<List<TimeLine>>("/api/times", ct);
                    output.Write(lines, () =>
                    {
                        if (lines.Count == 0)
                            output.Line("Nothing was learnt yet: it is, from runs at the plan's own pace.");
                        else
                            output.Table(
                                ["step", "times", "mostly", "median", "in plans"],
                                lines.Select(l =>
                                    new[]
                                    {
                                        l.Step,
                                        l.Time.Times.ToString(),
                                        $"{Durations.Write(l.Time.Low)} to {Durations.Write(l.Time.High)}",
                                        Durations.Write(l.Time.Median),
                                        l.Used ? "yes" : "not yet",
                                    }
                                )
                            );
                    });
                    return Exit.Done;
                }
            )
        );
        var (earlier, later) = (
            new Argument<string>("earlier") { Description = "a run" },
            new Argument<string>("later") { Description = "the run to compare with it" }
        );
        run.Subcommands.Add(
            context.Remote(
                "compare",
                "What a run did otherwise than an earlier one, and how long its parts took in both",
                async (result, client, output, ct) =>
                {
                    var found = await client.GetAsync<RunDifferences>(
                        $"/api/runs/{result.GetValue(later)}/differences?from="
                            + $"{Uri.EscapeDataString(result.GetValue(earlier)!)}",
                        ct
                    );
                    output.Write(
                        found,
                        () =>
                        {
                            output.Heading(
                                found.Differences.IsEmpty
                                    ? "They did the same."
                                    : $"{result.GetValue(later)}, compared with {result.GetValue(earlier)}:"
                            );
                            foreach (var difference in found.Differences)
                                output.Line($"  {difference}");
                            output.Line();
                            string Time(TimeSpan? t) => t is { } took ? Durations.Write(took) : "-";
                            output.Table(
                                ["part", "earlier", "later"],
                                found.Times.Select(t => new[] { t.What, Time(t.First), Time(t.Second) })
                            );
                        },
                        found.Times
                    );
                    return found.Differences.IsEmpty ? Exit.Done : Exit.No;
                },
                earlier,
                later
            )
        );
        var members = new Option<bool>("--members")
        {
            Description = "every member of it: on the old version, on the new one, or in between",
        };
        run.Subcommands.Add(
            context.Remote(
                "show",
                "A run as it stands",
                async (result, client, output, ct) =>
                {
                    var each = result.GetValue(members);
                    var view = await client.GetAsync<RunView>(
                        $"/api/runs/{result.GetValue(Run)}{(each ? "?lanes=all" : "")}",
                        ct
                    );
                    if (each)
                    {
                        var all = RunScreen.WhoRunsWhat(view).ToList();
                        output.Write(all, () =>
                            output.Table(
                                ["component", "member", "runs"],
                                all.Select(m => new[] { m.Component, m.Member, m.Runs })
                            )
                        );
                    }
                    else
                        await RunScreen.ShowAsync(client, view, output, ct);
                    return RunFollower.StatusOf(view);
                },
                Run,
                members
            )
        );
        run.Subcommands.Add(
            context.Remote(
                "follow",
                "Follow a run to its end or its next decision",
                (result, client, output, ct) => RunFollower.FollowAsync(client, result.GetValue(Run)!, output, ct),
                Run
            )
        );
        var (atOnce, atTime) = (
            new Option<bool>("--at-once")
            {
                Description = "begin no further step, even with members in the middle of their work",
            },
            new Option<string?>("--at")
            {
                Description =
                    "hold at the next safe place from this time on: 03:30, or 2026-11-29 03:30; none takes it back",
            }
        );
        run.Subcommands.Add(
            context.Remote(
                "hold",
                "Hold at the next safe place, at once, or at a time",
                async (result, client, output, ct) =>
                {
                    var at = result.GetValue(atTime);
                    await client.PostAsync(
                        $"/api/runs/{result.GetValue(Run)}/hold",
                        new
                        {
                            atOnce = result.GetValue(atOnce),
                            at = at is null or "none" ? (DateTimeOffset?)null : Times.Next(at),
                            notAtATime = at == "none",
                        },
                        ct
                    );
                    output.Line(
                        at == "none" ? "It holds at no time any more."
                        : at is not null
                            ? $"It holds at the next safe place from {Times.Next(at):yyyy-MM-dd HH:mm zzz} on."
                        : result.GetValue(atOnce) ? "It begins no further step."
                        : "It holds at the next safe place."
                    );
                    return Exit.Done;
                },
                Run,
                atOnce,
                atTime
            )
        );
        run.Subcommands.Add(
            context.Remote(
                "go-on",
                "Let a held run go on",
                async (result, client, output, ct) =>
                {
                    await client.PostAsync($"/api/runs/{result.GetValue(Run)}/go-on", null, ct);
                    return Exit.Done;
                },
                Run
            )
        );
        var decision = new Argument<string>("decision")
        {
            Description =
                "try-again, correct, mark-as-done, skip, return-member, leave-out, go-past-window, "
                + "accept-differences, return or stop-here",
        };
        decision.AcceptOnlyFromAmong(
            "try-again",
            "correct",
            "mark-as-done",
            "skip",
            "return-member",
            "leave-out",
            "go-past-window",
            "accept-differences",
            "return",
            "stop-here"
        );
        var (limit, times, command) = (
            new Option<string?>("--limit") { Description = "for correct: another limit for one attempt, as in '2 h'" },
            new Option<int?>("--attempts") { Description = "for correct: another number of attempts" },
            new Option<string[]>("--command")
            {
                Description = "for correct: other arguments of the command",
                AllowMultipleArgumentsPerToken = true,
            }
        );
        var asFarAs = new Option<string?>("--as-far-as")
        {
            Description = "for return: start (default), or 'move 2' for the beginning of that move",
        };
        var halt = new Option<long?>("--halt")
        {
            Description =
                "the number of the halt that it is about, as 'run show' has it: refused if the run has "
                + "halted anew since",
        };
        run.Subcommands.Add(
            context.Remote(
                "decide",
                "Decide at a halt",
                async (result, client, output, ct) =>
                {
                    var word = result.GetValue(decision) switch
                    {
                        "return" => "return-as-far-as",
                        "correct" => "correct-and-try-again",
                        var other => other,
                    };
                    // What comes right after it must not be missed: a run may halt again before it is looked at.
                    long? before = result.GetValue(follow)
                        ? (
                            await client.GetAsync<RunView>($"/api/runs/{result.GetValue(Run)}?lanes=current", ct)
                        ).Sequence
                        : null;
                    await client.PostAsync(
                        $"/api/runs/{result.GetValue(Run)}/decisions",
                        new
                        {
                            decision = word,
                            reason = result.GetValue(reason),
                            asFarAs = result.GetValue(asFarAs),
                            limit = result.GetValue(limit),
                            times = result.GetValue(times),
                            command = result.GetValue(command),
                            halt = result.GetValue(halt),
                        },
                        ct
                    );
                    return result.GetValue(follow)
                        ? await RunFollower.FollowAsync(client, result.GetValue(Run)!, output, ct, before)
                        : Exit.Done;
                },
                Run,
                decision,
                reason,
                asFarAs,
                limit,
                times,
                command,
                halt,
                follow
            )
        );
        var given = new Argument<string[]>("orders")
        {
            Description =
                "what is decided when nobody has for so long: 'try-again after 5 min, twice', then 'return "
                + "after 20 min'; none takes them back",
            Arity = ArgumentArity.ZeroOrMore,
        };
        run.Subcommands.Add(
            context.Remote(
                "orders",
                "Standing orders for halts that nobody decides in time",
                async (result, client, output, ct) =>
                {
                    var orders = result.GetValue(given)!.Select(StandingOrders.Read).ToList();
                    await client.PostAsync($"/api/runs/{result.GetValue(Run)}/orders", new { orders }, ct);
                    output.Line(
                        orders.Count == 0
                            ? "Every halt waits for somebody."
                            : $"Given: {string.Join(", then ", result.GetValue(given)!)}."
                    );
                    return Exit.Done;
                },
                Run,
                given
            )
        );
        var step = new Argument<string?>("step")
        {
            Description = "the step's title or identifier; may be left out where one waits",
            Arity = ArgumentArity.ZeroOrOne,
        };
        var of = new Option<string?>("--member") { Description = "its member, where several of one title wait" };
        var evidence = new Option<string>("--evidence") { Description = "what you did or saw", Required = true };
        var shown = new Option<string?>("--evidence-file") { Description = "a file that shows it, of at most 5 MiB" };
        var kept = new Option<bool>("--cannot-be-undone")
        {
            Description = "of a measure that a person takes back: it can't be; it is left to be done after the run",
        };
        var owner = new Option<string?>("--owner") { Description = "with it: whose that is" };
        run.Subcommands.Add(
            context.Remote(
                "sign",
                "Sign a step that a person does, or that a measure was taken back",
                async (result, client, _, ct) =>
                {
                    await client.PostAsync(
                        $"/api/runs/{result.GetValue(Run)}/signatures",
                        new
                        {
                            step = result.GetValue(step),
                            evidence = result.GetValue(evidence),
                            member = result.GetValue(of),
                            cannotBeUndone = result.GetValue(kept),
                            owner = result.GetValue(owner),
                            file = result.GetValue(shown) is { } path
                                ? new { name = Path.GetFileName(path), content = Files.Bytes(path) }
                                : null,
                        },
                        ct
                    );
                    return Exit.Done;
                },
                Run,
                step,
                of,
                evidence,
                shown,
                kept,
                owner
            )
        );
        var (part, note) = (
            new Argument<string?>("sign-off")
            {
                Description = "which, as 'part 7' (default: the one that the run waits for)",
                DefaultValueFactory = _ => null,
            },
            new Option<string?>("--note") { Description = "what you have to say to it" }
        );
        run.Subcommands.Add(
            context.Remote(
                "sign-off",
                "Say that a part of a run may begin",
                async (result, client, output, ct) =>
                {
                    var view = await client.GetAsync<RunView>($"/api/runs/{result.GetValue(Run)}", ct);
                    var which = result.GetValue(part)
                        ?? view.SignOffs.FirstOrDefault(s => s.Awaited)?.Asked.Id
                        ?? throw new MisusedException([
                            new Problem(
                                $"run {view.Run} waits for no sign-off",
                                null,
                                view.SignOffs.IsEmpty
                                    ? "Its plan asks for none."
                                    : $"Name one of {string.Join(", ", view.SignOffs.Select(s => $"'{s.Asked.Id}'"))}."
                            ),
                        ]);
                    await client.PostAsync(
                        $"/api/runs/{view.Run}/sign-offs",
                        new { signOff = which, note = result.GetValue(note) },
                        ct
                    );
                    output.Line($"Signed: {which} of run {view.Run}, plan {view.Plan}.");
                    return Exit.Done;
                },
                Run,
                part,
                note
            )
        );
        var attempt = new Argument<string>("attempt") { Description = "the attempt's identifier" };
        var raw = new Option<bool>("--raw") { Description = "as it came, with signs that steer a terminal" };
        run.Subcommands.Add(
            context.Remote(
                "output",
                "The output of an attempt",
                async (result, client, _, ct) =>
                {
                    var text = await client.GetTextAsync(
                        $"/api/runs/{result.GetValue(Run)}/outputs/{result.GetValue(attempt)}",
                        ct
                    );
                    Console.Write(result.GetValue(raw) ? text : Harmless.Lines(text));
                    return Exit.Done;
                },
                Run,
                attempt,
                raw
            )
        );
        var (ofMember, outputs) = (
            new Option<string?>("--member") { Description = "only what is about this member, component/node" },
            new Option<bool>("--outputs") { Description = "with what each attempt put out" }
        );
        run.Subcommands.Add(
            context.Remote(
                "log",
                "All that happened in a run, line by line; by --format its journal",
                async (result, client, output, ct) =>
                {
                    var asked = string.Join(
                        '&',
                        new[]
                        {
                            result.GetValue(ofMember) is { } m ? $"member={Uri.EscapeDataString(m)}" : null,
                            result.GetValue(outputs) ? "outputs=true" : null,
                        }.OfType<string>()
                    );
                    if (output.ForPeople)
                        Console.Write(
                            Harmless.Lines(
                                await client.GetTextAsync(
                                    $"/api/runs/{result.GetValue(Run)}/log{(asked.Length > 0 ? "?" + asked : "")}",
                                    ct
                                )
                            )
                        );
                    else
                        output.Write(
                            await client.GetAsync<JsonArray>($"/api/runs/{result.GetValue(Run)}/journal", ct),
                            () => { }
                        );
                    return Exit.Done;
                },
                Run,
                ofMember,
                outputs
            )
        );
        run.Subcommands.Add(
            context.Remote(
                "return-path",
                "The return path from where a run stands",
                async (result, client, output, ct) =>
                {
                    var path = await client.GetAsync<ReturnPathView>(
                        $"/api/runs/{result.GetValue(Run)}/return-path"
                            + $"{(result.GetValue(asFarAs) is { } far ? "?asFarAs=" + Uri.EscapeDataString(far) : "")}",
                        ct
                    );
                    output.Write(path, () => ReturnScreen.Show(null, path, output));
                    return path.Open ? Exit.Done : Exit.No;
                },
                Run,
                asFarAs
            )
        );
        run.Subcommands.Add(
            context.Remote(
                "report",
                "The closing report, as Markdown or by --format",
                async (result, client, output, ct) =>
                {
                    if (output.ForPeople)
                        Console.Write(
                            Harmless.Lines(
                                await client.GetTextAsync(
                                    $"/api/runs/{result.GetValue(Run)}/report?format=markdown",
                                    ct
                                )
                            )
                        );
                    else
                        output.Write(
                            await client.GetAsync<JsonObject>($"/api/runs/{result.GetValue(Run)}/report", ct),
                            () => { }
                        );
                    return Exit.Done;
                },
                Run
            )
        );
        var begin = new Option<bool>("--start") { Description = "start it; without this the path is only shown" };
        run.Subcommands.Add(
            context.Remote(
                "return",
                "Lead a run back that has ended, as long as its rollback points serve",
                async (result, client, output, ct) =>
                {
                    var (id, far) = (result.GetValue(Run)!, result.GetValue(asFarAs));
                    if (!result.GetValue(begin))
                    {
                        var path = await client.GetAsync<ReturnPathView>(
                            $"/api/runs/{id}/return-path"
                                + $"{(far is { } to ? "?asFarAs=" + Uri.EscapeDataString(to) : "")}",
                            ct
                        );
                        output.Write(path, () => ReturnScreen.Show(id, path, output));
                        return path.Open ? Exit.Done : Exit.No;
                    }
                    var back = (string)
                        (
                            await client.PostAsync(
                                $"/api/runs/{id}/return",
                                new { asFarAs = far, reason = result.GetValue(reason) },
                                ct
                            )
                        )!["run"]!;
                    if (result.GetValue(follow))
                    {
                        Console.Error.WriteLine($"run {back}");
                        return await RunFollower.FollowAsync(client, back, output, ct);
                    }
                    return Say(output, back) ? Exit.Done : Exit.No;
                },
                Run,
                asFarAs,
                reason,
                begin,
                follow
            )
        );
        return [run, PointCommands.Create(context)];
    }

    private static bool Say(Output output, string id)
    {
        output.Write(new { run = id }, () => output.Line(id));
        return true;
    }

    private static async Task<string?> OpenAsync(
        ParseResult result,
        ServiceClient client,
        Argument<string> plan,
        Option<string?> label,
        bool start,
        CancellationToken ct,
        DateTimeOffset? at = null
    ) =>
        (string?)
            (
                await client.PostAsync(
                    "/api/runs",
                    new
                    {
                        plan = result.GetValue(plan),
                        label = result.GetValue(label),
                        start,
                        at,
                    },
                    ct
                )
            )!["run"];
}
