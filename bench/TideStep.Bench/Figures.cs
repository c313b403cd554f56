using System.Diagnostics;
using System.Globalization;

namespace TideStep.Bench;

/// <summary>One measured figure against its yardstick of the same run, and what it should be.</summary>
public sealed record Figure(string What, string Ours, string Yardstick, double Ratio, string Aim);

internal static class Measure
{
    public static double Median(IEnumerable<double> values)
    {
        var sorted = values.Order().ToArray();
        return sorted.Length % 2 == 1
            ? sorted[sorted.Length / 2]
            : (sorted[sorted.Length / 2 - 1] + sorted[sorted.Length / 2]) / 2;
    }

    /// <summary>The median time of several runs of two things in turn, in seconds.</summary>
    public static async Task<(double Ours, double Theirs)> InTurn(int rounds, Func<Task> ours, Func<Task> theirs)
    {
        var (a, b) = (new List<double>(), new List<double>());
        for (var i = 0; i <= rounds; i++)
        {
            var first = await Time(ours);
            var second = await Time(theirs);
            if (i > 0)
            {
                a.Add(first);
                b.Add(second);
            } // the first round warms up
        }
        return (Median(a), Median(b));
    }

    public static async Task<double> Time(Func<Task> work)
    {
        var watch = Stopwatch.StartNew();
        await work();
        return watch.Elapsed.TotalSeconds;
    }

    public static string Write(double number, string unit) =>
        number.ToString(number >= 100 ? "0" : "0.##", CultureInfo.InvariantCulture) + " " + unit;
}
