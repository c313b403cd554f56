using System.Globalization;
using TideStep.Bench;

// usage: TideStep.Bench RESULTS SERVICE EMPTY [LAB-KEYS]; the figures are ratios of one run.
// With TIDESTEP_BENCH=journal,ssh only those are measured, and nothing is written.
var folder = Directory.CreateTempSubdirectory("tidestep-bench").FullName;
var only = Environment.GetEnvironmentVariable("TIDESTEP_BENCH")?.Split(',') ?? [];
List<(string Name, Func<Task<IEnumerable<Figure>>> Run)> benches =
[
    ("large", LargeBench.RunAsync),
    ("tiny", TinyBench.RunAsync),
    ("journal", () => JournalBench.RunAsync(folder)),
    ("engine", () => EngineBench.RunAsync(folder)),
    ("paths", PathBench.RunAsync),
    ("matrix", MatrixBench.RunAsync),
    ("checks", CheckBench.RunAsync),
    ("survey", () => SurveyBench.RunAsync(folder, Path.Combine(Path.GetDirectoryName(args[1])!, "tidestep-standin"))),
    ("feed", () => FeedBench.RunAsync(folder, args[1])),
    ("start", () => StartBench.RunAsync(folder, args[1], args[2])),
];
if (args.Length > 3)
    benches.AddRange([
        ("ssh", () => SshBench.RunAsync(folder, args[3])),
        ("ssh-run", () => SshRunBench.RunAsync(folder, args[3])),
        ("stage", () => StageBench.RunAsync(folder, args[3])),
    ]);
List<Figure> figures = [];
foreach (var (name, run) in benches)
    if (only.Length == 0 || only.Contains(name))
        figures.AddRange(await run());
Directory.Delete(folder, true);
var rows = figures.Select(f =>
    $"| {f.What} | {f.Ours} | {f.Yardstick} | {f.Ratio.ToString("0.00", CultureInfo.InvariantCulture)} | {f.Aim} |"
);
var text =
    "# Benchmarks\n\nMade by `make bench`; every line is a ratio of two things measured in turn in one run, "
    + "medians. The machines are noisy: read the ratios, not the absolute times.\n"
    + "\n| what | ours | yardstick | ratio | aim |\n|---|---|---|---|---|\n"
    + string.Join("\n", rows)
    + "\n";
Console.Write(text);
if (only.Length == 0)
    await File.WriteAllTextAsync(args[0], text);
