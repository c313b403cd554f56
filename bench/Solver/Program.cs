using System.Diagnostics;
using System.Globalization;
using TideStep.Bench;
using TideStep.Core.Paths;
using TideStep.Solver;

// usage: Solver [ESTATES]; prints table rows for docs/benchmarks.md. The same random problems for the planner and for a
// general solver, in turn.
var estates = args.Length > 0 ? int.Parse(args[0], CultureInfo.InvariantCulture) : 20;
var (ours, theirs, equal, asked) = (new List<double>(), new List<double>(), 0, 0);
for (var seed = -3; seed < estates; seed++)
{
    var request = RandomEstates.Make(Math.Abs(seed), 8, 6, 40) with { Joint = false };
    var began = Stopwatch.GetTimestamp();
    var answer = PathFinder.Find(request).Value!;
    var took = Stopwatch.GetElapsedTime(began).TotalMilliseconds;
    if (seed < 0 || !answer.Found || answer.AlreadyMet)
        continue; // the first ones warm up
    began = Stopwatch.GetTimestamp();
    var other = new PathModel(request, answer.Moves.Length + 2).Solve();
    theirs.Add(Stopwatch.GetElapsedTime(began).TotalMilliseconds);
    ours.Add(took);
    asked++;
    var mine = answer.Criteria.Where(c => c.Number is >= 2 and <= 7).Select(c => c.Value).ToList();
    if (other is not null && mine.SequenceEqual(other))
        equal++;
    else
        Console.Error.WriteLine(
            $"seed {seed}: ours {string.Join(' ', mine)}, the solver's "
                + $"{(other is null ? "none" : string.Join(' ', other))}"
        );
}
List<Figure> figures =
[
    new(
        "paths of 8 components x 6 releases x 40 rules, single moves: criteria 2 to 7 equal to those of CP-SAT",
        $"{equal}",
        $"{asked} estates",
        (double)equal / asked,
        "1"
    ),
    new(
        "the same, median time",
        Measure.Write(Measure.Median(ours), "ms"),
        Measure.Write(Measure.Median(theirs), "ms for CP-SAT"),
        Measure.Median(ours) / Measure.Median(theirs),
        "at most 0.05"
    ),
];
foreach (var f in figures)
    Console.WriteLine(
        $"| {f.What} | {f.Ours} | {f.Yardstick} | {f.Ratio.ToString("0.0000", CultureInfo.InvariantCulture)} "
            + $"| {f.Aim} |"
    );
