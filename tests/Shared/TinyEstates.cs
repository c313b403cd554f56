namespace TideStep.Tests;

/// <summary>Random tiny estates: two to four components of two to three releases with random rules, requirements,
/// closings and methods.</summary>
internal static class TinyEstates
{
    /// <summary>The estate and the goal of a seed.</summary>
    public static (Fleet Fleet, string Goal) Build(int seed) => Build(seed, null);

    /// <summary>The same with steps that a plan can list, jumps down and rollback points for some of the
    /// jumps.</summary>
    public static (Fleet Fleet, string Goal) WithWaysBack(int seed) => Build(seed, new Random(seed + 1));

    private static (Fleet Fleet, string Goal) Build(int seed, Random? back)
    {
        var random = new Random(seed);
        var count = random.Next(2, 5);
        var fleet = new Fleet();
        var releases = Enumerable.Range(0, count).Select(_ => random.Next(2, count == 4 ? 3 : 4)).ToArray();
        for (var c = 0; c < count; c++)
        {
            var members = random.Next(1, 4);
            fleet.Node($"n{c}x[1-{members}]");
            var relations = Enumerable.Range(0, c).Where(_ => random.Next(3) > 0).Select(o => $"c{o}").ToArray();
            fleet.With(
                $"c{c}",
                $"p{c}",
                "1",
                $"\"n{c}x[1-{members}]\"",
                relations.Length > 0 ? $"depends-on: [{string.Join(", ", relations)}]" : ""
            );
            fleet.Product($"p{c}", Catalogue(random, c, releases, back));
        }
        var goals = Enumerable
            .Range(0, count)
            .Where(c => c == 0 || random.Next(2) == 0)
            .OrderBy(_ => random.Next())
            .Select(c => $"{{component: c{c}, to: \">={random.Next(1, releases[c] + 1)}\"}}");
        string[] words = ["others", "outage", "closing", "jumps", "minutes"];
        var order = random.Next(3) == 0 ? $"\norder: [{words[random.Next(5)]}]" : "";
        return (fleet, $"goal: [{string.Join(", ", goals)}]{order}");
    }

    private static string Catalogue(Random random, int c, int[] releases, Random? back)
    {
        var text =
            "releases: {"
            + string.Join(", ", Enumerable.Range(1, releases[c]).Select(r => $"\"{r}\": {{}}"))
            + "}\nsteps: {convert: {do: {command: [x]}}, put: {do: {command: [y]}}, save: {do: {capture: "
            + "save}}, load: {do: {command: [z]}, takes: 3 min}}\nroutines: {restore: {save: [load]}}\njumps:\n";
        for (var from = 1; from <= releases[c]; from++)
        for (var to = from + 1; to <= releases[c]; to++)
        {
            if (to > from + 1 && random.Next(2) == 0)
                continue;
            string[] methods =
            [
                $"rolling: {{member: {random.Next(1, 9)} min, settle: 1 min}}",
                $"offline: {{outage: {random.Next(0, 20)} min, settle: {random.Next(1, 4)} min}}",
                $"side-by-side: {{install: {random.Next(1, 9)} min, outage: {random.Next(0, 9)} min, settle: "
                    + $"{random.Next(1, 4)} min}}",
            ];
            var closes = random.Next(4) == 0 ? ", closes: convert, after-all: [convert]" : "";
            var requires =
                c > 0 && random.Next(4) == 0
                    ? $", requires: [{{product: p{random.Next(c)}, range: \">={random.Next(1, 3)}\"}}]"
                    : "";
            var together =
                random.Next(8) == 0
                    ? $", together: [{{product: p{(c + random.Next(1, releases.Length)) % releases.Length}, "
                        + $"range: \">={random.Next(1, 4)}\"}}]"
                    : "";
            text +=
                $"  j{from}-{to}: {{from: \"={from}\", to: \"{to}\", methods: {{"
                + (
                    random.Next(5) switch
                    {
                        < 3 and var one => methods[one],
                        3 => $"{methods[0]}, {methods[1]}",
                        _ => string.Join(", ", methods),
                    }
                )
                + $"}}{closes}{requires}{together}"
                + (
                    back is null
                        ? ""
                        : ", change: [put]"
                            + (
                                back.Next(3) == 0
                                    ? $", points: [{{capture: save, while: "
                                        + $"{(back.Next(2) == 0 ? "serving" : "stopped")}}}]"
                                    : ""
                            )
                )
                + $"}}\n";
            if (back?.Next(3) > 0)
                text +=
                    $"  b{to}-{from}: {{from: \"={to}\", to: \"{from}\", down: true, methods: "
                    + $"{{{methods[back.Next(2)]}}}, change: [put]}}\n";
        }
        text += "rules:\n";
        for (var o = 0; o < c; o++)
        for (var i = random.Next(4); i > 0; i--)
            text +=
                random.Next(5) == 0
                    ? $"- {{depends-on: p{o}, by: major, older-by: {random.Next(2)}, newer-by: "
                        + $"{random.Next(2)}, verdict: {(random.Next(3) == 0 ? "transitional" : "supported")}}}\n"
                    : $"- {{this: \">={random.Next(1, 3)}\", depends-on: p{o}, at: \"<={random.Next(1, 4)}\", "
                        + $"verdict: "
                        + (
                            random.Next(5) switch
                            {
                                0 or 4 => "unsupported",
                                1 => "transitional",
                                _ => "supported",
                            }
                        )
                        + $"}}\n";
        return text.EndsWith("rules:\n") ? text[..^7] : text;
    }
}
