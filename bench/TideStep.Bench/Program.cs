using System.Globalization;
using TideStep.Bench;

// usage: TideStep.Bench RESULTS SERVICE EMPTY [LAB-KEYS]; the figures are ratios of one run.
var folder = Directory.CreateTempSubdirectory("tidestep-bench").FullName;
List<Figure> figures = [.. await JournalBench.RunAsync(folder), .. await EngineBench.RunAsync(folder), .. await StartBench.RunAsync(folder, args[1], args[2])];
if (args.Length > 3) figures.AddRange(await SshBench.RunAsync(folder, args[3]));
Directory.Delete(folder, true);
var rows = figures.Select(f => $"| {f.What} | {f.Ours} | {f.Yardstick} | {f.Ratio.ToString("0.00", CultureInfo.InvariantCulture)} | {f.Aim} |");
var text = "# Benchmarks\n\nMade by `make bench`; every line is a ratio of two things measured in turn in one run, medians. The machines are noisy: read the ratios, not the absolute times.\n\n| what | ours | yardstick | ratio | aim |\n|---|---|---|---|---|\n" + string.Join("\n", rows) + "\n";
Console.Write(text);
await File.WriteAllTextAsync(args[0], text);
