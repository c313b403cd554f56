using System.Collections.Immutable;
using System.Security.Cryptography;
using System.Text.Json;
using System.Text.RegularExpressions;
using TideStep.Core.Checks;
using TideStep.Core.Documents;
using TideStep.Engine.Estates;
using TideStep.Storage;

namespace TideStep.Engine.Artefacts;

/// <summary>The files that upgrades need: one folder, and beside each what it is. What was put into the folder by hand
/// is taken in when it is seen.</summary>
public sealed partial class ArtefactLibrary(string folder, IDocumentStore store, TimeProvider time)
{
    private const string Kind = "artefact";
    private readonly SemaphoreSlim _writing = new(1, 1);

    /// <summary>The folder of the files.</summary>
    public string Folder => folder;

    /// <summary>Where a file of that name lies, or would.</summary>
    public string PathOf(string name) => Path.Combine(folder, name);

    /// <summary>Why a text is no name of an artefact; null where it is one.</summary>
    public static Problem? Wrong(string name) =>
        Name().IsMatch(name) && !name.Contains("..", StringComparison.Ordinal)
            ? null
            : new Problem(
                $"'{Shown(name)}' is no name for an artefact",
                null,
                "Use letters, digits, dots, dashes, underscores, plus and tilde; it may not begin with a dot."
            );

    private static string Shown(string name) => new([.. name.Take(60).Select(c => char.IsControl(c) ? '·' : c)]);

    [GeneratedRegex(@"^[A-Za-z0-9_][A-Za-z0-9._+~:-]{0,199}$")]
    private static partial Regex Name();

    /// <summary>Everything in the library, by name.</summary>
    public async Task<ImmutableArray<Artefact>> AllAsync(CancellationToken ct)
    {
        var known = (await store.LatestAsync(Kind, ct)).Select(Known).ToDictionary(a => a.Name);
        var found = ImmutableArray.CreateBuilder<Artefact>();
        Directory.CreateDirectory(folder);
        foreach (var path in Directory.EnumerateFiles(folder).Order(StringComparer.Ordinal))
        {
            var name = Path.GetFileName(path);
            if (Wrong(name) is not null)
                continue;
            found.Add(
                known.TryGetValue(name, out var its)
                    ? its
                    : await TakeAsync(new Incoming(name, "found in the folder", "", null), ct)
            );
        }
        return found.ToImmutable();
    }

    // What was written of it is lost: no checksum is the one that it had, so that nothing is proved by it till it is
    // brought in again.
    private static Artefact Known(StoredDocument document)
    {
        try
        {
            return document.Damaged is { } damaged
                ? throw new DamagedRecordException(damaged)
                : Kept.Read<Artefact>(document);
        }
        catch (DamagedRecordException e)
        {
            return new Artefact(
                document.Id,
                0,
                "",
                $"set aside: {e.Message}",
                "",
                document.At,
                document.Author,
                DateTimeOffset.MaxValue
            );
        }
    }

    /// <summary>The artefact of that name, or null.</summary>
    public async Task<Artefact?> FindAsync(string name, CancellationToken ct) =>
        Wrong(name) is null && File.Exists(PathOf(name))
            ? (await AllAsync(ct)).FirstOrDefault(a => a.Name == name)
            : null;

    /// <summary>What checks need to know: whether each file still is what it was when it came in. One that was written
    /// since is read again.</summary>
    public async Task<ImmutableDictionary<string, HeldArtefact>> HeldAsync(CancellationToken ct)
    {
        var held = ImmutableDictionary.CreateBuilder<string, HeldArtefact>();
        foreach (var artefact in await AllAsync(ct))
        {
            var file = new FileInfo(PathOf(artefact.Name));
            var sum =
                file.Length == artefact.Bytes && ChangedOf(file) == artefact.Changed
                    ? artefact.Sha256
                    : await SumAsync(file.FullName, ct);
            held[artefact.Name] = new HeldArtefact(artefact.Name, file.Length, sum, sum == artefact.Sha256)
            {
                Staged = [.. artefact.Staged.Keys],
            };
        }
        return held.ToImmutable();
    }

    /// <summary>Takes a finished file into the library under its name, in place of what was there; refused where its
    /// checksum is not what it must be, and then it is gone.</summary>
    public async Task<Checked<Artefact>> TakeFileAsync(string path, Incoming incoming, CancellationToken ct)
    {
        if (Wrong(incoming.Name) is { } wrong)
            return new Checked<Artefact>(null, [wrong]);
        var sum = await SumAsync(path, ct);
        if (incoming.Sha256 is { } asked && !asked.Equals(sum, StringComparison.OrdinalIgnoreCase))
        {
            File.Delete(path);
            return new Checked<Artefact>(
                null,
                [
                    new Problem(
                        $"the checksum of {incoming.Name} is not what it must be",
                        $"it is {sum}, and should be {asked.ToLowerInvariant()}",
                        "It was changed or broken on its way, or is another file: fetch it again. Nothing was kept."
                    ),
                ]
            );
        }
        Directory.CreateDirectory(folder);
        File.Move(path, PathOf(incoming.Name), overwrite: true);
        return new Checked<Artefact>(await TakeAsync(incoming, ct, sum), []);
    }

    /// <summary>Takes in every file of a folder on the service's machine, by copying; what can't be named as it is, is
    /// told.</summary>
    public async Task<(IReadOnlyList<Artefact> Taken, IReadOnlyList<Problem> Problems)> TakeFolderAsync(
        string from,
        string by,
        CancellationToken ct
    )
    {
        var (taken, problems) = (new List<Artefact>(), new List<Problem>());
        if (!Directory.Exists(from))
            return (
                taken,
                [
                    new Problem(
                        $"there is no folder {from} on the service's machine",
                        null,
                        "Name it as the service's machine sees it, or upload the files: tidestep artefact add FILE..."
                    ),
                ]
            );
        if (IsOwn(from))
            return (
                taken,
                [
                    new Problem(
                        $"{from} is the service's own data folder, or a part of it",
                        null,
                        "Name the folder that the files came in; what the service keeps is nobody's artefact."
                    ),
                ]
            );
        foreach (var path in Directory.EnumerateFiles(from).Order(StringComparer.Ordinal))
        {
            if (NoFile(path) is { } no)
            {
                problems.Add(no);
                continue;
            }
            var copy = Path.Combine(PartsFolder(), Guid.NewGuid().ToString("N"));
            await using (var source = File.OpenRead(path))
            await using (var target = File.Create(copy))
                await source.CopyToAsync(target, ct);
            var result = await TakeFileAsync(
                copy,
                new Incoming(Path.GetFileName(path), $"folder {from}", by, null),
                ct
            );
            if (result.Ok)
                taken.Add(result.Value!);
            else
            {
                problems.AddRange(result.Problems);
                File.Delete(copy);
            }
        }
        return (taken, problems);
    }

    // The library lies in the data folder, beside keys and secrets; links are followed before it is compared.
    private bool IsOwn(string from)
    {
        var data = Real(Path.GetDirectoryName(Path.GetFullPath(folder))!);
        var asked = Real(from);
        return asked == data || asked.StartsWith(data + Path.DirectorySeparatorChar, StringComparison.Ordinal);
    }

    private static string Real(string path)
    {
        var (whole, real) = (Path.GetFullPath(path), "/");
        foreach (var part in whole.Split('/', StringSplitOptions.RemoveEmptyEntries))
        {
            var next = Path.Combine(real, part);
            real = Directory.Exists(next)
                ? Directory.ResolveLinkTarget(next, returnFinalTarget: true)?.FullName ?? next
                : next;
        }
        return real;
    }

    // A link may lead anywhere, a pipe never ends; these and devices tell no length.
    private static Problem? NoFile(string path)
    {
        var file = new FileInfo(path);
        var what =
            file.LinkTarget is { } target ? $"is a link to {target}"
            : file.Length == 0 ? "holds nothing: it is an empty file, a pipe or a device"
            : null;
        return what is null ? null : new Problem($"{path} {what}", null, "Only files themselves are taken in.");
    }

    /// <summary>Gives a file up; false where there is none of that name.</summary>
    public async Task<bool> RemoveAsync(string name, CancellationToken ct)
    {
        if (await FindAsync(name, ct) is null)
            return false;
        File.Delete(PathOf(name));
        return true;
    }

    /// <summary>Notes that a file lies ready on a node, verified there.</summary>
    public async Task StagedAsync(string name, string node, CancellationToken ct)
    {
        await _writing.WaitAsync(ct);
        try
        {
            if (await FindAsync(name, ct) is { } artefact)
                await SaveAsync(artefact with { Staged = artefact.Staged.SetItem(node, time.GetUtcNow()) }, ct);
        }
        finally
        {
            _writing.Release();
        }
    }

    /// <summary>Where files lie until they are whole.</summary>
    public string PartsFolder()
    {
        var parts = Path.Combine(folder, ".parts");
        Directory.CreateDirectory(parts);
        return parts;
    }

    private async Task<Artefact> TakeAsync(Incoming incoming, CancellationToken ct, string? sum = null)
    {
        var file = new FileInfo(PathOf(incoming.Name));
        var artefact = new Artefact(
            incoming.Name,
            file.Length,
            sum ?? await SumAsync(file.FullName, ct),
            incoming.Origin,
            Artefact.KindOf(incoming.Name),
            time.GetUtcNow(),
            incoming.By,
            ChangedOf(file)
        )
        {
            Version = incoming.Version,
            Variant = incoming.Variant,
            Signature = incoming.Signature,
        };
        await SaveAsync(artefact, ct);
        return artefact;
    }

    private static DateTimeOffset ChangedOf(FileInfo file) => new(file.LastWriteTimeUtc, TimeSpan.Zero);

    private async Task SaveAsync(Artefact artefact, CancellationToken ct)
    {
        var body = JsonSerializer.Serialize(artefact, Json.Options);
        await store.SaveAsync(
            [new StoredDocument(Kind, artefact.Name, 0, Json.DigestOfText(body), body, time.GetUtcNow(), artefact.By)],
            ct
        );
    }

    internal static async Task<string> SumAsync(string path, CancellationToken ct)
    {
        await using var file = new FileStream(
            path,
            FileMode.Open,
            FileAccess.Read,
            FileShare.Read,
            1 << 20,
            FileOptions.SequentialScan | FileOptions.Asynchronous
        );
        return Convert.ToHexStringLower(await SHA256.HashDataAsync(file, ct));
    }
}
