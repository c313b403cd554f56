using System.Text;
using TideStep.Tests;

namespace TideStep.Engine.Tests.Records;

/// <summary>A small estate with a goal, drawn at random: relations, guards, methods, points of every kind, ways down,
/// conversions, measures of every scope, work ahead, people's steps, and steps on what is related.</summary>
internal sealed class RandomUpgrade
{
    private readonly Random _chance;

    public RandomUpgrade(int seed)
    {
        _chance = new Random(seed);
        var components = _chance.Next(1, 4);
        for (var c = 0; c < components; c++)
            Add(c);
        Fleet.Node("f[1-2]", Reach).With("front", "pool", "1", "\"f[1-2]\"", "depends-on: [{c0: optional}]");
        Fleet.Product(
            "pool",
            "releases: {\"1\": {}}\nrules: ["
                + string.Join(
                    ", ",
                    Enumerable.Range(0, components).Select(c => $"{{depends-on: p{c}, at: \"*\", verdict: supported}}")
                )
                + "]\n"
        );
        Goal =
            "goal: ["
            + string.Join(", ", Enumerable.Range(0, components).Select(c => $"{{component: c{c}, to: {Last(c)}}}"))
            + "]";
    }

    private const string Reach = "site: s, reach: {by: stand-in, address: x}";

    public Fleet Fleet { get; } = new();

    public string Goal { get; }

    /// <summary>What was drawn, to be counted: a check of what never occurs checks nothing.</summary>
    public HashSet<string> Features { get; } = [];

    private readonly Dictionary<int, int> _last = [];

    private int Last(int component) => _last[component];

    private bool Draw(string feature, double share)
    {
        if (_chance.NextDouble() >= share)
            return false;
        Features.Add(feature);
        return true;
    }

    private void Add(int c)
    {
        var members = _chance.Next(1, 4);
        _last[c] = _chance.Next(2, 4);
        var rest = new List<string> { $"guard: {{keep: {Math.Max(0, members - 1)}, at-once: {_chance.Next(1, 3)}}}" };
        if (c > 0 && Draw("depends", 0.6))
            rest.Add($"depends-on: [{(Draw("optional", 0.4) ? $"{{c{c - 1}: optional}}" : $"c{c - 1}")}]");
        Fleet
            .Node($"n{c}[1-{members}]", Reach)
            .With($"c{c}", $"p{c}", "1", $"\"n{c}[1-{members}]\"", string.Join(", ", rest));
        Fleet.Product($"p{c}", ProductOf(c, members));
    }

    private string ProductOf(int c, int members)
    {
        var text = new StringBuilder("releases: {");
        text.Append(string.Join(", ", Enumerable.Range(1, _last[c]).Select(v => $"\"{v}\": {{}}")))
            .Append("}\njumps:\n");
        var restores = false;
        for (var to = 2; to <= _last[c]; to++)
            restores |= Jump(text, c, to, members);
        if (c > 0)
            text.Append($"rules: [{{depends-on: p{c - 1}, at: \"*\", verdict: supported}}]\n");
        text.Append("routines: {leave: [");
        if (c == 0 && Draw("related", 0.5))
            text.Append("out-of-pool, ");
        text.Append("stop], return: [start]")
            .Append(restores ? ", restore: {save: [bring], save-all: [bring-all]}" : "")
            .Append("}\n");
        return text.Append(Steps()).ToString();
    }

    // One jump up, and what leads back from it; whether it takes points.
    private bool Jump(StringBuilder text, int c, int to, int members)
    {
        var method =
            members > 1 && Draw("rolling", 0.7)
                ? "rolling: {member: 1 min, settle: 1 min}"
                : "offline: {outage: 1 min, settle: 1 min}";
        var (change, rest) = (new List<string>(), new List<string>());
        foreach (var scope in new[] { "member", "wave", "jump", "run" })
            if (Draw($"measure {scope}", 0.2))
                change.Add($"quiet-{scope}");
        if (Draw("person", 0.15))
            change.Add("ask");
        change.Add("put");
        var (converts, closes) = (Draw("converts", 0.25), false);
        if (converts)
        {
            change.Add("convert");
            rest.Add("converts: [the store]");
        }
        else if (Draw("closing", 0.15))
        {
            closes = true;
            rest.Add("after-all: [convert], closes: convert");
        }
        if (Draw("ahead", 0.3))
            rest.Add($"ahead: [look{(Draw("first ahead", 0.5) ? ", look-first, look" : "")}]");
        var points = new List<string>();
        if (Draw("point stopped", 0.4))
            points.Add("{capture: save, while: stopped}");
        else if (Draw("point serving", 0.3))
            points.Add("{capture: save, while: serving}");
        if (Draw("point of the component", 0.15))
            points.Add(
                $"{{capture: save-all, while: {(Draw("all stopped", 0.5) ? "stopped" : "serving")}, per: component}}"
            );
        if (points.Count > 0)
            rest.Add($"points: [{string.Join(", ", points)}]");
        text.Append(
            $"  up-{to}: {{from: \"={to - 1}\", to: \"{to}\", methods: {{{method}}}, "
                + $"change: [{string.Join(", ", change)}]"
        );
        text.Append(rest.Count == 0 ? "}\n" : $", {string.Join(", ", rest)}}}\n");
        if (Draw("way down", 0.6))
        {
            var back = (converts || closes) && Draw("converts back", 0.5);
            text.Append(
                $"  down-{to}: {{from: \"={to}\", to: \"{to - 1}\", down: true, methods: {{{method}}}, "
                    + $"change: [{(back ? "convert-back, " : "")}put-down]{(back ? ", converts-back: true" : "")}}}\n"
            );
        }
        return points.Count > 0;
    }

    private string Steps()
    {
        var attempts = Draw("attempts", 0.5) ? ", attempts: {times: 2, every: 0 s}" : "";
        var already = Draw("already", 0.5) ? ", already: installed = jump.to" : "";
        return $$"""
            steps:
              stop: {do: {stop: x}, safe-after: true}
              start: {do: {start: x}, repeatable: true}
              put: {do: {install: x, version: "{jump.to}"}, repeatable: true{{attempts}}{{already}} }
              put-down: {do: {install: x, version: "{jump.to}", allow-down: true}, repeatable: true}
              convert: {do: {command: [convert, "{jump.to}"]}, repeatable: true}
              convert-back: {do: {command: [convert-back, "{jump.to}"]}, repeatable: true}
              look: {do: {command: [look]}, repeatable: true}
              look-first: {do: {command: [look-first]}, scope: first, repeatable: true}
              ask: {do: {person: "Tell them."}, undo: {person: "Tell them again."} }
              quiet-member: {do: {command: [quiet, member]}, undo: {command: [loud, member]} }
              quiet-wave: {do: {command: [quiet, wave]}, undo: {command: [loud, wave]}, lasts: wave}
              quiet-jump: {do: {command: [quiet, jump]}, undo: {command: [loud, jump]}, lasts: jump}
              quiet-run: {do: {command: [quiet, run]}, undo: {command: [loud, run]}, lasts: run}
              out-of-pool:
                do: {command: [quiet, "{member.node}"]}
                on: {serves: pool}
                undo: {command: [loud, "{member.node}"]}
              save: {do: {capture: save, paths: [one]}, repeatable: true}
              save-all: {do: {capture: save, paths: [all]}, repeatable: true}
              bring-all: {do: {command: [bring-back, "{point.place}"]}, repeatable: true}
              bring: {do: {command: [bring-back, "{point.place}"]}, repeatable: true}

            """;
    }
}
