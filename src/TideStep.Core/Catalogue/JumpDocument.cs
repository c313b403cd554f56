using System.Collections.Immutable;
using TideStep.Core.Documents;
using TideStep.Core.Expressions;
using TideStep.Core.Versions;

namespace TideStep.Core.Catalogue;

/// <summary>Reads one jump of a product.</summary>
internal static class JumpDocument
{
    public static Jump Read(
        string id,
        Node node,
        Place at,
        VersionScheme scheme,
        ImmutableDictionary<string, StepSpec> steps,
        Findings findings
    )
    {
        var form = Form.Open(node, $"jump {id}", findings);
        Form.CheckId(id, at, "jump", findings);
        var fromNone = form.Text("from") == "none";
        var from = fromNone ? VersionRange.Any : form.Range("from", scheme);
        if (!form.Has("from"))
            findings.Add($"jump {id}: 'from' is missing", at, "Write the range of versions it starts from.");
        form.Required("to");
        var to = form.Version("to", scheme);
        var methods = ReadMethods(form);
        ImmutableArray<string> StepList(string key)
        {
            foreach (var (name, place) in form.Words(key))
                StepDocument.Expect(name, place, form.What, steps, findings);
            return [.. form.Words(key).Select(w => w.Text)];
        }
        var jump = new Jump(
            id,
            from ?? VersionRange.Any,
            to!,
            form.Flag("down"),
            methods,
            ReadRequirements(form, "requires"),
            ReadRequirements(form, "together"),
            form.Word("restarts", "nothing", "reconnect", "service", "node") switch
            {
                "node" => RestartScope.Node,
                "reconnect" => RestartScope.Reconnect,
                "nothing" => RestartScope.Nothing,
                _ => RestartScope.Service,
            },
            form.Text("closes"),
            StepList("ahead"),
            StepList("change"),
            StepList("after-all"),
            ReadPoints(form, steps),
            ReadPrerequisites(form),
            ReadArtefacts(form),
            at
        )
        {
            Questions = ReadQuestions(form),
            FromNone = fromNone,
            Loses = [.. form.Words("loses").Select(c => c.Text)],
            ConvertsBack = form.Flag("converts-back"),
            Converts = [.. form.Words("converts").Select(c => c.Text)],
            Tasks = ReadTasks(form),
            SignOffs = ReadSignOffs(form),
        };
        // What is done ahead changes nothing and stands for no moment: a point of then leads nowhere.
        foreach (
            var (name, place) in form.Words("ahead").Where(w => steps.GetValueOrDefault(w.Text)?.Do is CaptureAction)
        )
            form.Findings.Add(
                $"jump {id}: '{name}' captures a rollback point and can't be done ahead",
                place,
                $"Name it under 'points', as in {{capture: {name}, while: serving}}."
            );
        if (
            jump.Closes is { } closes
            && steps.Count > 0
            && !jump.Ahead.Concat(jump.Change).Concat(jump.AfterAll).Contains(closes)
        )
            findings.Add(
                $"jump {id}: closes '{closes}', which is none of its steps",
                form.PlaceOf("closes"),
                Nearest.Hint(closes, jump.Ahead.Concat(jump.Change).Concat(jump.AfterAll))
            );
        foreach (var other in jump.Methods.Where(m => fromNone && m.Method != Method.Offline))
            form.Findings.Add(
                $"jump {id}: a first installation is done by 'offline', not by '{other.Method.Word()}'",
                form.PlaceOf("methods"),
                "Nothing serves yet, so nothing can roll. Write 'offline' with its 'outage' as the time it takes."
            );
        if (fromNone && jump.Down)
            form.Findings.Add($"jump {id}: nothing lies above 'none' to come down from", form.PlaceOf("down"));
        if (jump.ConvertsBack && !jump.Down)
            form.Findings.Add(
                $"jump {id}: 'converts-back' is for a jump down",
                form.PlaceOf("converts-back"),
                "Write it on the jump that leads back."
            );
        form.Close();
        return jump;
    }

    private static readonly string[] FigureKeys = ["member", "settle", "outage", "install", "canary-settle"];

    private static ImmutableArray<MethodFigures> ReadMethods(Form form)
    {
        var methods = ImmutableArray.CreateBuilder<MethodFigures>();
        foreach (var (name, value, at) in form.Map("methods"))
        {
            if (MethodNames.TryParse(name) is not { } method)
            {
                form.Findings.Add($"{form.What}: '{name}' is no method", at, Nearest.Hint(name, MethodNames.All));
                continue;
            }
            var figures = Form.Open(
                value is TextNode { Text: "" } ? null : value,
                $"{form.What}, {name}",
                form.Findings,
                at
            );
            // A key of another method would be no figure at all, and an outage of nought a promise.
            foreach (var key in FigureKeys.Where(k => figures.Has(k) && !MethodNames.KeysOf(method).Contains(k)))
                form.Findings.Add(
                    $"{figures.What}: '{key}' is no figure of {name}",
                    figures.PlaceOf(key),
                    $"It has {string.Join(", ", MethodNames.KeysOf(method).Select(k => $"'{k}'"))}."
                );
            foreach (var key in MethodNames.NeededOf(method).Where(k => !figures.Has(k)))
                form.Findings.Add(
                    $"{figures.What}: '{key}' is missing",
                    at,
                    $"Write how long that takes, as in {key}: 10 min; 0 min where it takes no time."
                );
            TimeSpan Of(string key) => figures.Duration(key) ?? TimeSpan.Zero;
            methods.Add(
                new MethodFigures(
                    method,
                    Of("member"),
                    Of("settle"),
                    Of("outage"),
                    Of("install"),
                    figures.Duration("canary-settle")
                )
            );
            figures.Close();
        }
        if (methods.Count == 0)
            form.Findings.Add(
                $"{form.What}: has no method",
                form.At,
                $"Add 'methods' with one of {string.Join(", ", MethodNames.All)}."
            );
        return [.. methods.OrderBy(m => m.Method)];
    }

    private static ImmutableArray<Requirement> ReadRequirements(Form form, string key)
    {
        var found = ImmutableArray.CreateBuilder<Requirement>();
        foreach (var node in form.List(key))
        {
            var item = Form.Open(node, $"{form.What}, {key}", form.Findings);
            // As with rules, the other product's range is read again by that product's scheme.
            var text = item.Required("range");
            var range = VersionRange.TryParse(text, VersionScheme.Dotted, out var reason);
            if (range is null && text.Length > 0)
                form.Findings.Add($"{item.What}: '{text}' is no range: {reason}", item.PlaceOf("range"));
            found.Add(new Requirement(item.Required("product"), range ?? VersionRange.Any));
            item.Close();
        }
        return found.ToImmutable();
    }

    private static ImmutableArray<PointWish> ReadPoints(Form form, ImmutableDictionary<string, StepSpec> steps)
    {
        var found = ImmutableArray.CreateBuilder<PointWish>();
        foreach (var node in form.List("points"))
        {
            var item = Form.OpenOrWord(node, "capture", $"{form.What}, points", form.Findings);
            var (capture, of) = (item.Required("capture"), item.Text("of"));
            // What another product captures is known only with the whole catalogue.
            if (capture.Length > 0 && of is null)
                StepDocument.Expect(capture, item.PlaceOf("capture"), item.What, steps, form.Findings);
            if (of is null && steps.TryGetValue(capture, out var step) && step.Do is not CaptureAction)
                form.Findings.Add(
                    $"{item.What}: step '{capture}' captures nothing",
                    item.PlaceOf("capture"),
                    "Its 'do' must be a capture."
                );
            var wish = new PointWish(
                capture,
                item.Word("while", "serving", "stopped") != "stopped",
                item.Word("per", "member", "component") != "component"
            )
            {
                Serves = item.Duration("serves") ?? PointWish.ServesUsually,
                Settle = item.Duration("settle") ?? PointWish.SettlesUsually,
                Of = of,
                Place = item.At,
            };
            if (wish.Settle > wish.Serves)
                form.Findings.Add(
                    $"{item.What}: the settle time is longer than the point serves",
                    item.PlaceOf(item.Has("settle") ? "settle" : "serves"),
                    "Let it serve at least as long."
                );
            found.Add(wish);
            item.Close();
        }
        return found.ToImmutable();
    }

    private static ImmutableArray<Prerequisite> ReadPrerequisites(Form form)
    {
        var found = ImmutableArray.CreateBuilder<Prerequisite>();
        foreach (var node in form.List("prerequisites"))
        {
            var item = Form.Open(node, $"{form.What}, prerequisite", form.Findings);
            var (id, per) = (item.Required("id"), item.Word("per", "member", "node", "component", "site") ?? "member");
            var (level, remedy) = (
                item.Word("level", "blocker", "caution", "advice") ?? "blocker",
                item.Text("remedy")
            );
            if (ExpressionText.Read(item, "holds", required: true) is { } holds)
                found.Add(
                    new Prerequisite(id, per, level, holds, remedy)
                    {
                        AtWave = item.Word("when", "wave", "plan") == "wave",
                    }
                );
            item.Close();
        }
        return found.ToImmutable();
    }

    private static ImmutableArray<JumpQuestion> ReadQuestions(Form form)
    {
        var found = ImmutableArray.CreateBuilder<JumpQuestion>();
        foreach (var node in form.List("answers"))
        {
            var item = Form.OpenOrWord(node, "id", $"{form.What}, answers", form.Findings);
            var id = item.Required("id");
            found.Add(new JumpQuestion(id, item.Text("asks") ?? id, item.Text("otherwise")));
            item.Close();
        }
        return found.ToImmutable();
    }

    private static ImmutableArray<JumpTask> ReadTasks(Form form)
    {
        var found = ImmutableArray.CreateBuilder<JumpTask>();
        foreach (var node in form.List("tasks"))
        {
            var item = Form.OpenOrWord(node, "title", $"{form.What}, tasks", form.Findings);
            var when = item.Word("when", "before", "inside", "after", "later") switch
            {
                "inside" => TaskTime.Inside,
                "after" => TaskTime.After,
                "later" => TaskTime.Later,
                _ => TaskTime.Before,
            };
            if (item.Has("ahead") && when != TaskTime.Before)
                form.Findings.Add(
                    $"{item.What}: 'ahead' is for what is done before the window",
                    item.PlaceOf("ahead"),
                    "Leave it out, or say 'when: before'."
                );
            found.Add(
                new JumpTask(item.Required("title"), when)
                {
                    Instructions = item.Text("instructions"),
                    Owner = item.Text("owner"),
                    Ahead = item.Duration("ahead") ?? TimeSpan.Zero,
                }
            );
            item.Close();
        }
        return found.ToImmutable();
    }

    private static ImmutableArray<string> ReadSignOffs(Form form)
    {
        foreach (
            var (phase, at) in form.Words("sign-offs").Where(w => !Estates.SignOffPolicy.PhaseWords.Contains(w.Text))
        )
            form.Findings.Add(
                $"{form.What}: '{phase}' is no phase",
                at,
                Nearest.Hint(phase, Estates.SignOffPolicy.PhaseWords)
            );
        return [.. form.Words("sign-offs").Select(w => w.Text)];
    }

    private static ImmutableArray<ArtefactNeed> ReadArtefacts(Form form)
    {
        var found = ImmutableArray.CreateBuilder<ArtefactNeed>();
        foreach (var node in form.List("artefacts"))
        {
            var item = Form.OpenOrWord(node, "id", $"{form.What}, artefact", form.Findings);
            var size = item.Text("size") is { } text ? Units.TryBytes(text) : null;
            if (size is null && item.Has("size"))
                form.Findings.Add($"{item.What}: 'size' must be a size like 120 MiB", item.PlaceOf("size"));
            found.Add(
                new ArtefactNeed(item.Required("id"), item.Text("file"), item.Text("sha256"), (long?)size)
                {
                    For = item.Map("for")
                        .ToImmutableSortedDictionary(
                            t => t.Key,
                            t => t.Value is TextNode { Text: var text } ? text : "",
                            StringComparer.Ordinal
                        ),
                }
            );
            item.Close();
        }
        return found.ToImmutable();
    }
}

/// <summary>The methods by the words of the vocabulary.</summary>
public static class MethodNames
{
    public static readonly string[] All = ["rolling", "replace", "two-slot", "side-by-side", "offline"];

    public static Method? TryParse(string name) => Array.IndexOf(All, name) is >= 0 and var at ? (Method)at : null;

    /// <summary>The figures that a method has, by the document's keys.</summary>
    public static ImmutableArray<string> KeysOf(Method method) =>
        method switch
        {
            Method.Rolling or Method.TwoSlot => ["member", "settle", "canary-settle"],
            Method.Replace => ["member", "settle"],
            Method.SideBySide => ["install", "outage", "settle"],
            _ => ["outage", "settle"],
        };

    /// <summary>The figures that have to be there: settle times may be left out.</summary>
    public static ImmutableArray<string> NeededOf(Method method) =>
        [.. KeysOf(method).Where(k => k is not ("settle" or "canary-settle"))];

    public static string Word(this Method method) => All[(int)method];
}

/// <summary>Reads expressions from documents, with the place of a mistake inside them.</summary>
internal static class ExpressionText
{
    public static Expression? Read(Form form, string key, bool required = false)
    {
        var text = required ? form.Required(key) : form.Text(key);
        return string.IsNullOrEmpty(text)
            ? null
            : Parse(text, form.PlaceOf(key), $"{form.What}: '{key}'", form.Findings);
    }

    public static Expression? Parse(string text, Place at, string what, Findings findings)
    {
        if (ExpressionParser.TryParse(text, out var reason, out var offset) is { } expression)
            return expression;
        // The column counts from the text's own start; for a quoted scalar that is one behind the quote.
        findings.Add(
            $"{what} is not understood at character {offset + 1} of \"{text}\"",
            at with
            {
                Column = at.Column + offset,
            },
            null,
            reason
        );
        return null;
    }
}
