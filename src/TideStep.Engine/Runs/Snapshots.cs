using System.IO.Compression;
using System.Text.Json;
using TideStep.Core.Plans;
using TideStep.Core.Runs;
using TideStep.Storage;

namespace TideStep.Engine.Runs;

/// <summary>Keeps the states of runs every so many entries and at their end, and finds them again.</summary>
/// <param name="every">After how many entries the next one is kept.</param>
public sealed class Snapshots(ISnapshots kept, Action<string, Exception> log, long every = 5_000)
{
    // A run with fewer entries is folded as quickly as a snapshot of it is read.
    private const long LeastAtTheEnd = 500;

    /// <summary>The state that was kept last; null where there is none that fits.</summary>
    public async Task<RunState?> FindAsync(string run, Plan plan, CancellationToken ct)
    {
        if (await kept.FindSnapshotAsync(run, RunMemento.Shape, ct) is not { } snapshot || snapshot.Plan != plan.Digest)
            return null;
        try
        {
            return RunMemento.Read(plan, Unpacked(snapshot.Body));
        }
        catch (Exception e) when (e is JsonException or FormatException or InvalidDataException or KeyNotFoundException)
        {
            log($"the snapshot of run {run} can't be read; its journal is", e);
            return null;
        }
    }

    /// <summary>Keeps a run's states from now on, beside its work: only the copy is made while nothing changes the
    /// state.</summary>
    public void Watch(RunLog its)
    {
        var (last, busy) = (its.Look(s => s.Sequence), 0);
        its.Grew += () =>
        {
            var (now, ended) = its.Look(s => (s.Sequence, s.End is not null));
            if (
                now - Volatile.Read(ref last) < every && !(ended && now >= LeastAtTheEnd)
                || Interlocked.Exchange(ref busy, 1) == 1
            )
                return;
            _ = Task.Run(async () =>
            {
                try
                {
                    var (sequence, plan, copy) = its.Look(s => (s.Sequence, s.Plan.Digest, RunMemento.Copy(s)));
                    await kept.SaveSnapshotAsync(
                        new StoredSnapshot(its.Run, sequence, plan, RunMemento.Shape, Packed(RunMemento.Write(copy))),
                        CancellationToken.None
                    );
                    Volatile.Write(ref last, sequence);
                }
                catch (Exception e)
                {
                    log($"no snapshot of run {its.Run} could be kept", e);
                }
                finally
                {
                    Volatile.Write(ref busy, 0);
                }
            });
        };
    }

    private static string Packed(byte[] text)
    {
        using var packed = new MemoryStream();
        using (var pack = new BrotliStream(packed, CompressionLevel.Fastest))
            pack.Write(text);
        return Convert.ToBase64String(packed.ToArray());
    }

    private static byte[] Unpacked(string body)
    {
        using var unpack = new BrotliStream(
            new MemoryStream(Convert.FromBase64String(body)),
            CompressionMode.Decompress
        );
        using var text = new MemoryStream();
        unpack.CopyTo(text);
        return text.ToArray();
    }
}
