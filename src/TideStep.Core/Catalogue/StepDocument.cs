using System.Collections.Immutable;
using TideStep.Core.Documents;
using TideStep.Core.Expressions;

namespace TideStep.Core.Catalogue;

/// <summary>Reads the steps and routines of a product.</summary>
internal static class StepDocument
{
    private static readonly string[] Actions =
    [
        "command",
        "start",
        "stop",
        "restart",
        "install",
        "send",
        "capture",
        "await",
        "person",
        "request",
        "query",
    ];

    public static ImmutableDictionary<string, StepSpec> ReadSteps(
        Form document,
        ImmutableArray<string> services,
        Findings findings
    )
    {
        var steps = ImmutableDictionary.CreateBuilder<string, StepSpec>();
        var voids = new List<(string Word, Place At, string Step)>();
        var texts = new List<(StepAction Action, string What, Place At, bool Elsewhere)>();
        foreach (var (name, node, at) in document.Map("steps"))
        {
            Form.CheckId(name, at, "step", findings);
            var form = Form.Open(node, $"step {name}", findings);
            if (form.Node("do") is not { } doing)
            {
                findings.Add($"step {name}: 'do' is missing", at, $"Write one action: {string.Join(", ", Actions)}.");
                form.Close();
                continue;
            }
            var (verify, within) = ReadVerify(form);
            var attempts = form.Node("attempts") is { } node2
                ? ReadAttempts(node2, form)
                : new AttemptPolicy(1, TimeSpan.Zero);
            var action = ReadAction(doing, form.What, findings);
            if (attempts.Unverified == true && action is CaptureAction)
                findings.Add(
                    $"step {name}: a rollback point is looked at anyway, and the run does not go on without "
                        + $"one that is whole",
                    form.PlaceOf("attempts"),
                    "Leave 'unverified' out."
                );
            var undo = form.Node("undo") is { } undoing ? ReadAction(undoing, $"{form.What}, undo", findings) : null;
            if (action is not null)
                texts.Add((action, form.What, doing.At, form.Node("on") is MapNode));
            if (undo is not null)
                texts.Add((undo, $"{form.What}, undo", form.PlaceOf("undo"), form.Node("on") is MapNode));
            var takes = ReadTakes(form);
            var (on, related) = ReadOn(form);
            if (action is CaptureAction or InstallAction && related is not null)
                findings.Add(
                    $"step {name}: what is captured or installed is the member's own",
                    form.PlaceOf("on"),
                    "Leave 'on' out, or write what the other node does as a command, a request or a query."
                );
            var lasts = form.Word("lasts", "member", "wave", "jump", "run") switch
            {
                "wave" => MeasureScope.Wave,
                "jump" => MeasureScope.Jump,
                "run" => MeasureScope.Run,
                _ => MeasureScope.Member,
            };
            if (form.Has("lasts") && undo is null)
                findings.Add(
                    $"step {name}: 'lasts' is for a temporary measure, and this step has no 'undo'",
                    form.PlaceOf("lasts"),
                    "Say how it is taken back, or leave it out."
                );
            var step = new StepSpec(
                name,
                form.Text("title") ?? name,
                action ?? new PersonAction(""),
                ExpressionText.Read(form, "already"),
                verify,
                within,
                undo,
                form.Flag("repeatable"),
                attempts,
                form.Duration("limit") ?? TimeSpan.FromMinutes(30),
                form.Word("overdue", "halt", "stop") == "stop",
                form.Flag("safe-after"),
                takes.Base,
                form.Text("impact"),
                at
            )
            {
                Rate = takes.Rate,
                UpTo = takes.UpTo,
                Lasts = lasts,
                On = on,
                At = related,
                Notes = form.Text("notes"),
                Voids = [.. form.Words("voids").Select(w => w.Text)],
                For = ReadFor(form),
                Owner = form.Text("owner"),
                Must = form.Flag("must"),
                Scope = ReadScope(form),
                Tells = ReadTells(form),
                EndsWell = ReadStatuses(form, "ends-well") ?? [],
                Milestones = ReadMilestones(form),
            };
            if (step.Owner is not null && action is not PersonAction && undo is not PersonAction)
                findings.Add(
                    $"step {name}: 'owner' is for what a person does",
                    form.PlaceOf("owner"),
                    "Leave it out, or write the step as {person: instructions}."
                );
            if (!step.EndsWell.IsEmpty && action is not (CommandAction or CaptureAction { By: not null }))
                findings.Add(
                    $"step {name}: only a command ends with a status of its own",
                    form.PlaceOf("ends-well"),
                    "Leave 'ends-well' out."
                );
            if (
                action is StartAction { Service: StepSpec.AllServices } or StopAction { Service: StepSpec.AllServices }
                && services.IsEmpty
            )
                findings.Add(
                    $"step {name}: it is for all services, and the product names none",
                    at,
                    "Name them in the order in which they are stopped: services: [web, worker]."
                );
            if (step.Scope != StepScope.Member && step.On is StepOn.Successor or StepOn.Others)
                findings.Add(
                    $"step {name}: what is done on {(step.On == StepOn.Others ? "others" : "a successor")} "
                        + $"belongs to each member",
                    form.PlaceOf("scope"),
                    "Leave 'scope' out, or 'on'."
                );
            voids.AddRange(form.Words("voids").Select(w => (w.Text, w.At, name)));
            if (step.Notes is { } note)
                Form.CheckId(note, form.PlaceOf("notes"), form.What, findings);
            if (step is { On: StepOn.Successor or StepOn.Others, Undo: not null })
                findings.Add(
                    $"step {name}: a temporary measure is of the member itself",
                    form.PlaceOf("on"),
                    "Leave 'on' out, or 'undo'."
                );
            form.Close();
            if (action is not null)
                steps[name] = step;
        }
        CheckPlaceholders(document, steps.ToImmutable(), texts, findings);
        // Captures of another product are looked for when the catalogue is read as a whole.
        foreach (var (word, at, name) in voids.Where(v => !v.Word.Contains('/')))
            if (!steps.TryGetValue(word, out var captures) || captures.Do is not CaptureAction)
                findings.Add(
                    $"step {name}: 'voids' names '{word}', which captures nothing",
                    at,
                    Nearest.Hint(word, steps.Values.Where(s => s.Do is CaptureAction).Select(s => s.Name))
                        ?? "Name the step of a capture."
                );
        return steps.ToImmutable();
    }

    private static void CheckPlaceholders(
        Form document,
        ImmutableDictionary<string, StepSpec> steps,
        List<(StepAction Action, string What, Place At, bool Elsewhere)> texts,
        Findings findings
    )
    {
        var answers = document
            .Map("jumps")
            .SelectMany(j => j.Value is MapNode jump ? jump.Entries : [])
            .Where(e => e.Key.Text == "answers" && e.Value is ListNode)
            .SelectMany(e => ((ListNode)e.Value).Items)
            .Select(n =>
                n is TextNode word ? word.Text
                : n is MapNode map
                    ? map.Entries.Select(e => (e.Key.Text, e.Value)).FirstOrDefault(e => e.Text == "id").Value
                            is TextNode { Text: var id }
                            ? id
                        : ""
                : ""
            );
        var names = new PlaceholderNames(
            steps.Values.Select(s => s.Notes).OfType<string>().ToHashSet(),
            document.Map("readings").Select(r => r.Key).Concat(["running", "installed", "staged", "role"]).ToHashSet(),
            answers.ToHashSet(),
            findings
        );
        foreach (var (action, what, at, elsewhere) in texts)
            names.Check(action, what, at, elsewhere);
        foreach (var step in steps.Values)
        foreach (
            var (expression, what) in new[]
            {
                (step.Already, "already"),
                (step.Verify, "verify"),
                ((step.Do as AwaitAction)?.Holds, "await"),
            }
        )
            if (expression is not null)
                names.Check(expression, $"step {step.Name}, {what}", step.Place, step.At is not null);
    }

    private static (StepOn On, RelatedPlace? At) ReadOn(Form form) =>
        form.Node("on") is MapNode place
            ? (StepOn.Related, RelatedPlace.Read(place, $"{form.What}, on", first: false, form.Findings))
            : (
                form.Word("on", "member", "successor", "others") switch
                {
                    "successor" => StepOn.Successor,
                    "others" => StepOn.Others,
                    _ => StepOn.Member,
                },
                null
            );

    private static StepScope ReadScope(Form form) =>
        form.Word("scope", "member", "wave", "site", "once", "first", "last") switch
        {
            "wave" => StepScope.Wave,
            "site" => StepScope.Site,
            "once" or "first" => StepScope.First,
            "last" => StepScope.Last,
            _ => StepScope.Member,
        };

    private static ImmutableSortedDictionary<string, ImmutableArray<string>> ReadFor(Form form)
    {
        var found = ImmutableSortedDictionary.CreateBuilder<string, ImmutableArray<string>>(StringComparer.Ordinal);
        foreach (var (trait, value, at) in form.Map("for"))
        {
            ImmutableArray<Node> items = value is ListNode list ? list.Items : [value];
            found[trait] = [.. items.OfType<TextNode>().Select(t => t.Text)];
            if (found[trait].Length != items.Length || items.IsEmpty)
                form.Findings.Add($"{form.What}, for: '{trait}' needs a value, or a list of them", at);
        }
        return found.ToImmutable();
    }

    private static ImmutableArray<ToldNumber> ReadTells(Form form)
    {
        var found = ImmutableArray.CreateBuilder<ToldNumber>();
        foreach (var (name, value, at) in form.Map("tells"))
        {
            var told = Form.OpenOrWord(value, "pattern", $"{form.What}, tells {name}", form.Findings);
            var pattern = told.Required("pattern");
            if (pattern.Length > 0 && CollectorDocument.GroupsOf(pattern) is not > 0)
                form.Findings.Add(
                    $"{told.What}: the pattern is no regular expression with a group for the number",
                    told.PlaceOf("pattern"),
                    "Write it like '([0-9]+) failed'."
                );
            found.Add(new ToldNumber(name, pattern, Bound(told, "at-least"), Bound(told, "at-most")));
            told.Close();
        }
        return found.ToImmutable();

        static double? Bound(Form told, string key)
        {
            if (told.Text(key) is not { } text)
                return null;
            if (
                double.TryParse(
                    text,
                    System.Globalization.NumberStyles.Float,
                    System.Globalization.CultureInfo.InvariantCulture,
                    out var number
                )
            )
                return number;
            told.Findings.Add($"{told.What}: '{text}' is no number", told.PlaceOf(key));
            return null;
        }
    }

    private static (Expression?, TimeSpan) ReadVerify(Form form)
    {
        if (form.Node("verify") is not { } node)
            return (null, TimeSpan.Zero);
        var verify = Form.OpenOrWord(node, "holds", $"{form.What}, verify", form.Findings);
        var read = (
            ExpressionText.Read(verify, "holds", required: true),
            verify.Duration("within") ?? TimeSpan.FromMinutes(1)
        );
        verify.Close();
        return read;
    }

    // A duration, or one that grows with a reading and may be longer.
    private static (TimeSpan Base, TimeRate? Rate, double UpTo) ReadTakes(Form form)
    {
        if (form.Node("takes") is not MapNode node)
            return (form.Duration("takes") ?? TimeSpan.Zero, null, 1);
        var takes = Form.Open(node, $"{form.What}, takes", form.Findings);
        var (rate, upTo) = (default(TimeRate), 1.0);
        if (takes.Duration("each") is { } each)
        {
            var per = takes.Text("per") ?? "1";
            var amount = Units.TryBytes(per)
                ?? (
                    double.TryParse(per, System.Globalization.CultureInfo.InvariantCulture, out var objects)
                        ? objects
                        : 0
                );
            if (amount <= 0)
                form.Findings.Add(
                    $"{takes.What}: 'per' must be a size like 1 GiB or a number of objects, not '{per}'",
                    takes.PlaceOf("per")
                );
            rate = new TimeRate(each, Math.Max(amount, double.Epsilon), per, takes.Required("of"));
        }
        if (takes.Text("up-to") is { } share)
        {
            if (
                share.EndsWith('%')
                && double.TryParse(share[..^1], System.Globalization.CultureInfo.InvariantCulture, out var percent)
                && percent >= 100
            )
                upTo = percent / 100;
            else
                form.Findings.Add(
                    $"{takes.What}: 'up-to' must be a share of at least 100%, not '{share}'",
                    takes.PlaceOf("up-to")
                );
        }
        var read = (takes.Duration("base") ?? TimeSpan.Zero, rate, upTo);
        takes.Close();
        return read;
    }

    private static AttemptPolicy ReadAttempts(Node node, Form form)
    {
        var attempts = Form.OpenOrWord(node, "times", $"{form.What}, attempts", form.Findings);
        var policy = new AttemptPolicy(
            attempts.Count("times", 1) ?? 1,
            attempts.Duration("every") ?? TimeSpan.FromSeconds(10)
        );
        if (attempts.Node("when") is { } kinds)
        {
            var when = Form.Open(kinds, $"{attempts.What}, when", form.Findings);
            policy = policy with
            {
                Statuses = ReadStatuses(when, "statuses"),
                Says = when.Text("says"),
                Unverified = when.Flag("unverified") ? true : null,
            };
            if (policy.Says is { } says && CollectorDocument.GroupsOf(says) is null)
                form.Findings.Add($"{when.What}: 'says' is no regular expression", when.PlaceOf("says"));
            if (policy is { Statuses: null, Says: null, Unverified: null })
                form.Findings.Add(
                    $"{when.What}: no kind of failure is named",
                    when.At,
                    "Name statuses, says, or unverified; or leave 'when' out."
                );
            if (policy.Times < 2)
                form.Findings.Add(
                    $"{attempts.What}: with one attempt nothing is tried again",
                    when.At,
                    "Say how many times: times: 3."
                );
            when.Close();
        }
        attempts.Close();
        return policy;
    }

    private static ImmutableArray<Milestone> ReadMilestones(Form form)
    {
        var found = ImmutableArray.CreateBuilder<Milestone>();
        foreach (var node in form.List("milestones"))
        {
            var milestone = Form.OpenOrWord(node, "title", $"{form.What}, milestones", form.Findings);
            var (title, says, takes) = (
                milestone.Required("title"),
                milestone.Text("says"),
                milestone.Duration("takes")
            );
            if (says is null && found.Count > 0)
                form.Findings.Add(
                    $"{milestone.What}: nothing tells when '{title}' begins",
                    milestone.At,
                    "Say it: says: PATTERN. Only the first begins with the step."
                );
            if (says is not null && CollectorDocument.GroupsOf(says) is null)
                form.Findings.Add($"{milestone.What}: 'says' is no regular expression", milestone.PlaceOf("says"));
            found.Add(new Milestone(title, says, takes));
            milestone.Close();
        }
        return found.ToImmutable();
    }

    private static ImmutableArray<int>? ReadStatuses(Form form, string key)
    {
        if (!form.Has(key))
            return null;
        var found = ImmutableArray.CreateBuilder<int>();
        foreach (var (word, at) in form.Words(key))
        {
            if (
                int.TryParse(word, System.Globalization.CultureInfo.InvariantCulture, out var status)
                && status is >= 0 and <= 255
            )
                found.Add(status);
            else
                form.Findings.Add($"{form.What}, {key}: '{word}' is no exit status", at, "Statuses are 0 to 255.");
        }
        return found.ToImmutable();
    }

    private static StepAction? ReadAction(Node node, string what, Findings findings)
    {
        var form = Form.Open(node, what, findings);
        var named = Actions.Where(form.Has).ToList();
        if (named.Count != 1)
        {
            var stray = node is MapNode map ? map.Entries.Select(e => e.Key.Text).FirstOrDefault() ?? "" : "";
            findings.Add(
                $"{what}: must name one action",
                node.At,
                named.Count == 0 ? Nearest.Hint(stray, Actions) : $"Found {string.Join(" and ", named)}."
            );
            return null;
        }
        StepAction? action = named[0] switch
        {
            "command" => new CommandAction([.. form.Words("command").Select(w => w.Text)]),
            "start" => new StartAction(form.Required("start")),
            "stop" => new StopAction(form.Required("stop")),
            "restart" => new RestartAction(form.Required("restart") is var target && target == "node" ? null : target),
            "install" => new InstallAction(
                form.Required("install"),
                form.Required("version"),
                form.Text("file"),
                form.Flag("allow-down")
            ),
            "send" => new SendAction(form.Required("send"), form.Required("to")),
            "capture" => new CaptureAction(
                form.Required("capture"),
                [.. form.Words("paths").Select(w => w.Text)],
                form.Text("to") ?? ""
            )
            {
                By = form.Has("by") ? [.. form.Words("by").Select(w => w.Text)] : null,
                Kept = ReadKept(form, what, findings),
            },
            "await" => ExpressionText.Read(form, "await", required: true) is { } holds ? new AwaitAction(holds) : null,
            "request" => new RequestAction(
                form.Word("method", "GET", "POST", "PUT", "PATCH", "DELETE") ?? "POST",
                form.Required("request"),
                form.Text("body")
            ),
            "query" => new QueryAction(form.Required("query"), []),
            _ => new PersonAction(form.Required("person")),
        };
        if (action is CommandAction { Arguments.IsEmpty: true })
            findings.Add($"{what}: 'command' must be a list of arguments", node.At);
        if (
            action is CaptureAction { Kept: not null } kept
            && (!kept.Paths.IsEmpty || kept.By is not null || kept.To.Length > 0)
        )
            findings.Add(
                $"{what}: what the far side keeps itself is no file of ours",
                form.PlaceOf("there"),
                "Leave paths, by and to out, or 'there'."
            );
        if (action is CaptureAction { By: { } by } dumped)
        {
            if (by.IsEmpty)
                findings.Add(
                    $"{what}: 'by' must be a list of arguments",
                    form.PlaceOf("by"),
                    "The place is put after them."
                );
            if (!dumped.Paths.IsEmpty)
                findings.Add(
                    $"{what}: a point is written by a command, or paths are captured",
                    form.PlaceOf("by"),
                    "Leave one of the two out."
                );
            if (dumped.To.Length == 0)
                findings.Add(
                    $"{what}: nothing says where the point is written",
                    node.At,
                    "Name the folder: to: /var/backups/tidestep."
                );
        }
        form.Close();
        return action;
    }

    private static readonly string[] OfKept = ["take", "says", "bytes", "take-away"];

    private static KeptPoint? ReadKept(Form form, string what, Findings findings)
    {
        if (!form.Has("there"))
        {
            foreach (var key in OfKept.Where(form.Has))
                findings.Add(
                    $"{what}: '{key}' is for a point that the far side keeps itself",
                    form.PlaceOf(key),
                    "Say with 'there' how it is asked for."
                );
            return null;
        }
        StepAction? Of(string key)
        {
            if (form.Node(key) is not { } node)
                return null;
            var action = ReadAction(node, $"{what}, {key}", findings);
            if (action is null or CommandAction or RequestAction or QueryAction)
                return action;
            findings.Add($"{what}, {key}: must be a command, a request or a query", node.At);
            return null;
        }
        string? Pattern(string key, int groups)
        {
            if (form.Text(key) is not { } text)
                return null;
            if (!(CollectorDocument.GroupsOf(text) >= groups))
                findings.Add(
                    $"{what}: '{key}' is no regular expression{(groups > 0 ? " with a group for the number" : "")}",
                    form.PlaceOf(key)
                );
            return text;
        }
        var (take, there, away) = (Of("take"), Of("there"), Of("take-away"));
        return there is null ? null : new KeptPoint(take, there, Pattern("says", 0), Pattern("bytes", 1), away);
    }

    public static Routines ReadRoutines(
        Form document,
        ImmutableArray<string> roles,
        ImmutableDictionary<string, StepSpec> steps,
        Findings findings
    )
    {
        var form = Form.Open(document.Node("routines"), "routines", findings, document.At);
        var (inStep, within) = (default(Expression), TimeSpan.FromMinutes(10));
        if (form.Node("in-step") is { } node)
        {
            var probe = Form.OpenOrWord(node, "holds", "routines, in-step", findings);
            (inStep, within) = (
                ExpressionText.Read(probe, "holds", required: true),
                probe.Duration("within") ?? within
            );
            probe.Close();
        }
        var routines = new Routines(
            ByRole(form, "leave", roles, steps),
            ByRole(form, "return", roles, steps),
            inStep,
            within,
            ByRole(form, "restore", [.. steps.Keys, "reseed"], steps)
        )
        {
            Join = ByRole(form, "join", roles, steps),
            Vote = ByRole(form, "vote", roles, steps),
            Retire = ByRole(form, "retire", roles, steps),
            Empty = ByRole(form, "empty", roles, steps),
            EmptyAttempts = ReadEmpty(document, form),
            Prove = ByRole(form, "prove", [.. steps.Where(s => s.Value.Do is CaptureAction).Select(s => s.Key)], steps),
        };
        form.Close();
        return routines;
    }

    private static AttemptPolicy ReadEmpty(Form document, Form routines)
    {
        if (document.Node("empty") is not { } node)
            return new AttemptPolicy(1, TimeSpan.Zero);
        if (routines.Node("empty") is null)
            document.Findings.Add(
                "empty: says how often emptying is tried, and the routines have no 'empty'",
                document.PlaceOf("empty"),
                "Add routines: {empty: [...]}."
            );
        var empty = Form.Open(node, "empty", document.Findings);
        var policy = new AttemptPolicy(
            empty.Count("times", 1) ?? 1,
            empty.Duration("every") ?? TimeSpan.FromMinutes(1)
        );
        empty.Close();
        return policy;
    }

    private static ImmutableDictionary<string, ImmutableArray<string>> ByRole(
        Form form,
        string key,
        ImmutableArray<string> names,
        ImmutableDictionary<string, StepSpec> steps
    )
    {
        var found = ImmutableDictionary.CreateBuilder<string, ImmutableArray<string>>();
        if (form.Node(key) is MapNode)
            foreach (var (name, value, at) in form.Map(key))
            {
                if (!names.Contains(name))
                    form.Findings.Add($"{form.What}, {key}: '{name}' is not known here", at, Nearest.Hint(name, names));
                found[name] = Steps(value);
            }
        else if (form.Node(key) is { } node)
            found[Routines.AnyRole] = Steps(node);
        return found.ToImmutable();

        ImmutableArray<string> Steps(Node value)
        {
            ImmutableArray<Node> items = value is ListNode list ? list.Items : ImmutableArray.Create(value);
            foreach (var item in items)
                if (item is TextNode text)
                    Expect(text.Text, text.At, $"{form.What}, {key}", steps, form.Findings);
            return [.. items.OfType<TextNode>().Select(t => t.Text)];
        }
    }

    public static void Expect(
        string step,
        Place at,
        string what,
        ImmutableDictionary<string, StepSpec> steps,
        Findings findings
    )
    {
        if (!steps.ContainsKey(step))
            findings.Add($"{what}: there is no step '{step}'", at, Nearest.Hint(step, steps.Keys));
    }

    public static void CheckExpressions(
        ImmutableDictionary<string, StepSpec> steps,
        Routines routines,
        ImmutableArray<Jump> jumps,
        ImmutableArray<Release> releases,
        ImmutableDictionary<string, Collector> readings,
        Findings findings
    )
    {
        // What is put to one live member has no others to count over.
        List<(Expression? Text, Place? Place, string What)> ofOne =
        [
            .. steps.Values.SelectMany(s =>
                new[]
                {
                    (s.Already, s.Place, $"step {s.Name}, already"),
                    (s.Verify, s.Place, $"step {s.Name}, verify"),
                    ((s.Do as AwaitAction)?.Holds, s.Place, $"step {s.Name}, await"),
                }
            ),
            (routines.InStep, null, "routines, in-step"),
        ];
        foreach (var (expression, place, what) in ofOne.Where(e => e.Text is not null))
            if (expression!.AsksOfMore || expression.References.Any(r => r.Name is "related" or "window"))
                findings.Add(
                    $"{what}: it is asked of one member alone; members, related and window are asked in prerequisites",
                    place,
                    null,
                    expression.Text
                );
        var all = ofOne
            .Concat(
                releases.SelectMany(r =>
                    r.InUse.Select(u => ((Expression?)u.Value, r.Place, $"release {r.Label}, in use: {u.Key}"))
                )
            )
            .Concat(
                jumps.SelectMany(j =>
                    j.Prerequisites.Select(p => ((Expression?)p.Holds, j.Place, $"jump {j.Id}, prerequisite {p.Id}"))
                )
            );
        foreach (var (expression, place, what) in all)
            if (expression is not null)
                foreach (var mistake in TypeCheck.Check(expression, r => KnownReadings.KindOf(r, readings)))
                    findings.Add(
                        $"{what}: {mistake.What}",
                        place,
                        expression.References.Any(r => KnownReadings.KindOf(r, readings) is null)
                            ? Nearest.Hint(
                                expression.References.First(r => KnownReadings.KindOf(r, readings) is null).Name,
                                KnownReadings.Names(readings)
                            )
                            : null,
                        $"at character {mistake.Offset + 1} of {expression.Text}"
                    );
    }
}
