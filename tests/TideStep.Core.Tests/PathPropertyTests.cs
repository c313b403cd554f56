using CsCheck;

namespace TideStep.Core.Tests;

public sealed class PathPropertyTests
{
    /// <summary>Random tiny estates: two to four components of two to three releases with random rules, requirements, closings and methods.</summary>
    private static readonly Gen<(Fleet Fleet, string Goal)> Estates = Gen.Int[0, int.MaxValue].Select(Build);

    private static (Fleet, string) Build(int seed)
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
            fleet.With($"c{c}", $"p{c}", "1", $"\"n{c}x[1-{members}]\"", relations.Length > 0 ? $"depends-on: [{string.Join(", ", relations)}]" : "");
            fleet.Product($"p{c}", Catalogue(random, c, releases));
        }
        var goals = Enumerable.Range(0, count).Where(c => c == 0 || random.Next(2) == 0).OrderBy(_ => random.Next()).Select(c => $"{{component: c{c}, to: \">={random.Next(1, releases[c] + 1)}\"}}");
        string[] words = ["others", "outage", "closing", "jumps", "minutes"];
        var order = random.Next(3) == 0 ? $"\norder: [{words[random.Next(5)]}]" : "";
        return (fleet, $"goal: [{string.Join(", ", goals)}]{order}");
    }

    private static string Catalogue(Random random, int c, int[] releases)
    {
        var text = "releases: {" + string.Join(", ", Enumerable.Range(1, releases[c]).Select(r => $"\"{r}\": {{}}")) + "}\nsteps: {convert: {do: {command: [x]}}}\njumps:\n";
        for (var from = 1; from <= releases[c]; from++)
            for (var to = from + 1; to <= releases[c]; to++)
            {
                if (to > from + 1 && random.Next(2) == 0) continue;
                string[] methods = [$"rolling: {{member: {random.Next(1, 9)} min, settle: 1 min}}", $"offline: {{outage: {random.Next(0, 20)} min, settle: {random.Next(1, 4)} min}}", $"side-by-side: {{install: {random.Next(1, 9)} min, outage: {random.Next(0, 9)} min, settle: {random.Next(1, 4)} min}}"];
                var closes = random.Next(4) == 0 ? ", closes: convert, after-all: [convert]" : "";
                var requires = c > 0 && random.Next(4) == 0 ? $", requires: [{{product: p{random.Next(c)}, range: \">={random.Next(1, 3)}\"}}]" : "";
                var together = random.Next(8) == 0 ? $", together: [{{product: p{(c + random.Next(1, releases.Length)) % releases.Length}, range: \">={random.Next(1, 4)}\"}}]" : "";
                text += $"  j{from}-{to}: {{from: \"={from}\", to: \"{to}\", methods: {{{(random.Next(5) switch { < 3 and var one => methods[one], 3 => $"{methods[0]}, {methods[1]}", _ => string.Join(", ", methods) })}}}{closes}{requires}{together}}}\n";
            }
        text += "rules:\n";
        for (var o = 0; o < c; o++)
            for (var i = random.Next(4); i > 0; i--)
                text += random.Next(5) == 0
                    ? $"- {{depends-on: p{o}, by: major, older-by: {random.Next(2)}, newer-by: {random.Next(2)}, verdict: {(random.Next(3) == 0 ? "transitional" : "supported")}}}\n"
                    : $"- {{this: \">={random.Next(1, 3)}\", depends-on: p{o}, at: \"<={random.Next(1, 4)}\", verdict: {(random.Next(5) switch { 0 or 4 => "unsupported", 1 => "transitional", _ => "supported" })}}}\n";
        return text.EndsWith("rules:\n") ? text[..^7] : text;
    }

    /// <summary>Deciding the jumps first and then their order gives the same as walking every sequence.</summary>
    [Fact]
    public void Jumps_first_and_order_afterwards_equals_exhaustive_search() => Estates.Sample(pair =>
    {
        var request = pair.Fleet.Request(pair.Goal) with { Joint = false };
        var expected = Exhaustive.Best(request.Index, request.Goal, joint: false);
        var answer = Fleet.Good(Core.Paths.PathFinder.Find(request));
        Assert.Equal(expected?.Path, answer.Found ? string.Join(" ", answer.Moves.Select(m => $"{m.Written}/{m.Method}.{m.Jump.Id}")) : null);
        Assert.True(answer.Proved);
    }, iter: 600);

    [Fact]
    public void The_path_found_equals_exhaustive_search_on_tiny_estates()
    {
        var (found, joint) = (0, 0);
        Estates.Sample(pair =>
        {
            var request = pair.Fleet.Request(pair.Goal);
            var expected = Exhaustive.Best(request.Index, request.Goal);
            var answer = Fleet.Good(Core.Paths.PathFinder.Find(request));
        Assert.Equal(expected?.Path, answer.Found ? string.Join(" ", answer.Moves.Select(m => $"{m.Written}/{string.Join("+", m.Jumps.Select(j => $"{j.Method}.{j.Jump.Id}"))}")) : null);
            if (answer.Found) Interlocked.Increment(ref found);
            else Assert.True(answer.Reasons.Length > 0, $"no reason given\n{pair.Goal}\n{pair.Fleet.Texts}");
            if (answer.Moves.Any(m => m.IsJoint)) Interlocked.Increment(ref joint);
        }, iter: 400);
        Assert.True(found > 100, $"only {found} of 400 estates had a path");
        Assert.True(joint > 5, $"only {joint} of 400 paths had a joint move");
    }
}
