using System.Collections.Concurrent;
using System.Text.Json;
using TideStep.Core.Documents;
using TideStep.Engine.Estates;

namespace TideStep.Engine.Artefacts;

/// <summary>An upload that is not finished: what it will be, and how long it is in all.</summary>
public sealed record Upload(string Id, long Length, Incoming Incoming, DateTimeOffset Begun);

/// <summary>Uploads that can be broken off and taken up again, as the open tus protocol (1.0.0, with creation) has
/// them: what was received is what lies in the file.</summary>
public sealed class Uploads(ArtefactLibrary library, TimeProvider time)
{
    private static readonly TimeSpan Kept = TimeSpan.FromDays(7);

    // Who writes to an upload, and how that is ended: each has its own, and blocks no other.
    private readonly ConcurrentDictionary<string, Writer> _writers = new();

    private sealed class Writer : IDisposable
    {
        public CancellationTokenSource GivesWay { get; } = new();
        public TaskCompletionSource Ended { get; } = new(TaskCreationOptions.RunContinuationsAsynchronously);

        public void Dispose()
        {
            Ended.TrySetResult();
            GivesWay.Dispose();
        }
    }

    private string FileOf(string id) => Path.Combine(library.PartsFolder(), id);

    /// <summary>Begins an upload, or takes one up that was begun of the same file and not finished.</summary>
    public async Task<Checked<Upload>> BeginAsync(long length, Incoming incoming, CancellationToken ct)
    {
        if (ArtefactLibrary.Wrong(incoming.Name) is { } wrong)
            return new Checked<Upload>(null, [wrong]);
        foreach (var known in Open())
        {
            if (time.GetUtcNow() - known.Begun > Kept)
            {
                Remove(known.Id);
                continue;
            }
            // Without a checksum nobody can say that it is the same file.
            if (
                incoming.Sha256 is not null
                && known.Length == length
                && known.Incoming.Name == incoming.Name
                && known.Incoming.Sha256 == incoming.Sha256
            )
                return new Checked<Upload>(known, []);
        }
        var room = new DriveInfo(Path.GetFullPath(library.PartsFolder())).AvailableFreeSpace;
        if (length > room)
            return new Checked<Upload>(
                null,
                [
                    new Problem(
                        $"{incoming.Name} does not fit into the library",
                        $"it needs {Core.Expressions.Units.WriteBytes(length)}, there are "
                            + $"{Core.Expressions.Units.WriteBytes(room)}: "
                            + $"{Core.Expressions.Units.WriteBytes(length - room)} short",
                        "Remove what is not needed any more: tidestep artefact list."
                    ),
                ]
            );
        var upload = new Upload(Guid.NewGuid().ToString("N"), length, incoming, time.GetUtcNow());
        await File.WriteAllTextAsync(FileOf(upload.Id) + ".json", JsonSerializer.Serialize(upload, Json.Options), ct);
        await using (File.Create(FileOf(upload.Id))) { }
        return new Checked<Upload>(upload, []);
    }

    /// <summary>An upload by its identifier, with how much of it is here; null where there is none.</summary>
    public (Upload Upload, long Offset)? Find(string id) =>
        Guid.TryParseExact(id, "N", out _) && File.Exists(FileOf(id) + ".json") && File.Exists(FileOf(id))
            ? (
                JsonSerializer.Deserialize<Upload>(File.ReadAllText(FileOf(id) + ".json"), Json.Options)!,
                new FileInfo(FileOf(id)).Length
            )
            : null;

    private List<Upload> Open() =>
        [
            .. Directory
                .EnumerateFiles(library.PartsFolder(), "*.json")
                .Select(f => Find(Path.GetFileNameWithoutExtension(f))?.Upload)
                .OfType<Upload>(),
        ];

    /// <summary>Appends what comes at an offset; what arrived before the line broke stays. When it is all there it is
    /// checked and taken into the library.</summary>
    /// <returns>The offset now, and what was refused or taken; a wrong offset is told by one below nought.</returns>
    public async Task<(long Offset, Checked<Artefact>? Taken)> AppendAsync(
        string id,
        long offset,
        Stream body,
        CancellationToken ct
    )
    {
        if (Find(id) is null)
            return (-1, null);
        using var writer = new Writer();
        await TakeOverAsync(id, writer, ct);
        using var either = CancellationTokenSource.CreateLinkedTokenSource(ct, writer.GivesWay.Token);
        try
        {
            return await WriteAsync(id, offset, body, either.Token);
        }
        finally
        {
            _writers.TryRemove(KeyValuePair.Create(id, writer));
        }
    }

    // Who comes again has given the connection up on which an earlier piece may still be waited for.
    private async Task TakeOverAsync(string id, Writer writer, CancellationToken ct)
    {
        while (_writers.GetOrAdd(id, writer) is var first && first != writer)
        {
            try
            {
                await first.GivesWay.CancelAsync();
            }
            catch (ObjectDisposedException)
            { /* it has ended by itself */
            }
            await first.Ended.Task.WaitAsync(ct);
            _writers.TryRemove(KeyValuePair.Create(id, first));
        }
    }

    private async Task<(long Offset, Checked<Artefact>? Taken)> WriteAsync(
        string id,
        long offset,
        Stream body,
        CancellationToken ct
    )
    {
        if (Find(id) is not var (upload, at) || at != offset)
            return (-1, null);
        await using (
            var file = new FileStream(
                FileOf(id),
                FileMode.Append,
                FileAccess.Write,
                FileShare.None,
                1 << 16,
                FileOptions.Asynchronous
            )
        )
        {
            var piece = new byte[1 << 16];
            try
            {
                while (
                    at < upload.Length
                    && await body.ReadAsync(piece.AsMemory(0, (int)Math.Min(piece.Length, upload.Length - at)), ct)
                        is > 0
                            and var read
                )
                {
                    await file.WriteAsync(piece.AsMemory(0, read), CancellationToken.None);
                    at += read;
                }
            }
            catch (Exception e) when (e is IOException or OperationCanceledException && at < upload.Length)
            { /* broken off: what is here stays, and is gone on with */
            }
            await file.FlushAsync(CancellationToken.None);
        }
        if (at < upload.Length)
            return (at, null);
        var taken = await library.TakeFileAsync(FileOf(id), upload.Incoming, CancellationToken.None);
        File.Delete(FileOf(id) + ".json");
        return (at, taken);
    }

    public bool Remove(string id)
    {
        if (Find(id) is null)
            return false;
        File.Delete(FileOf(id));
        File.Delete(FileOf(id) + ".json");
        return true;
    }
}
