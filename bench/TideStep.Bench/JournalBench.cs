using Microsoft.Win32.SafeHandles;
using TideStep.Core.Runs;
using TideStep.Storage;

namespace TideStep.Bench;

/// <summary>Durable appends against the disk's own rate of single flushed 4 KiB writes, on the same file system in the
/// same run.</summary>
internal static class JournalBench
{
    private const int Writes = 2000; // fewer, and it is the warming up that is measured

    public static async Task<IEnumerable<Figure>> RunAsync(string folder)
    {
        var store = new SqliteStore(Path.Combine(folder, "bench.db"));
        await using var _ = store;
        var now = DateTimeOffset.UtcNow;
        async Task<(string Run, long Epoch)> Open()
        {
            var run = "r" + Guid.NewGuid().ToString("N")[..10];
            await store.CreateRunAsync(
                new StoredRun(run, "p", null, now, 0, null, null),
                new Opened("p", "", "bench", null),
                now,
                default
            );
            return (run, await store.TakeOwnershipAsync(run, "bench", default));
        }
        var single = await Open();
        var sequence = 1L;
        var runs = await Task.WhenAll(Enumerable.Range(0, 256).Select(_ => Open()));
        var sequences = new long[256];
        Array.Fill(sequences, 1);
        using var file = File.OpenHandle(
            Path.Combine(folder, "raw"),
            FileMode.Create,
            FileAccess.ReadWrite,
            FileShare.None,
            FileOptions.WriteThrough
        );
        var page = new byte[4096];
        Task Raw()
        {
            for (var i = 0; i < Writes; i++)
            {
                RandomAccess.Write(file, page, i * 4096L);
                RandomAccess.FlushToDisk(file);
            }
            return Task.CompletedTask;
        }
        async Task One()
        {
            for (var i = 0; i < Writes; i++)
                await store.AppendAsync(
                    single.Run,
                    single.Epoch,
                    sequence++,
                    [new StepBegun("m1/w1/change/relay/relay-1/install")],
                    now,
                    default
                );
        }
        async Task Many() =>
            await Task.WhenAll(
                runs.Select(
                    (r, i) =>
                        Task.Run(async () =>
                        {
                            for (var n = 0; n < 8; n++)
                                await store.AppendAsync(
                                    r.Run,
                                    r.Epoch,
                                    sequences[i]++,
                                    [new StepBegun("m1/w1/change/relay/relay-1/install")],
                                    now,
                                    default
                                );
                        })
                )
            );
        var (one, raw) = await Measure.InTurn(5, One, Raw);
        var (many, rawAgain) = await Measure.InTurn(5, Many, Raw);
        double Rate(double seconds, int count) => count / seconds;
        return
        [
            new Figure(
                "journal appends, one at a time",
                Measure.Write(Rate(one, Writes), "/s"),
                Measure.Write(Rate(raw, Writes), "/s flushed 4 KiB writes"),
                Rate(one, Writes) / Rate(raw, Writes),
                "at least 0.5"
            ),
            new Figure(
                "journal appends, 256 members at once",
                Measure.Write(Rate(many, 2048), "/s"),
                Measure.Write(Rate(rawAgain, Writes), "/s flushed 4 KiB writes"),
                Rate(many, 2048) / Rate(rawAgain, Writes),
                "at least 2.5"
            ),
        ];
    }
}
