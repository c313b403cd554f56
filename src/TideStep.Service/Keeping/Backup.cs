using System.Security.Cryptography;
using System.Text.Json;
using TideStep.Core.Documents;
using TideStep.Storage;

namespace TideStep.Service.Keeping;

/// <summary>What a backup's <c>backup.json</c> says of it.</summary>
/// <param name="Tidestep">The kind of document, <c>backup/1</c>.</param>
/// <param name="Version">The Tide Step that wrote it.</param>
/// <param name="Schema">The schema of its database.</param>
/// <param name="Files">Every file by its path in the folder, with its SHA-256 in hexadecimal.</param>
public sealed record BackupNote(
    string Tidestep,
    string Version,
    long Schema,
    DateTimeOffset Made,
    IReadOnlyDictionary<string, string> Files
);

/// <summary>A folder with everything that a service keeps: the database as an SQLite file, keys, secrets and
/// artefacts, and a note of what is in it.</summary>
public static class Backup
{
    private const string PartsOfUploads = "artefacts/.parts/";
    private const string Kind = "backup/1";
    private const string Note = "backup.json";
    private const string Database = ServiceSettings.DatabaseFile;
    private const UnixFileMode OwnersFolder = UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute;
    private const UnixFileMode OwnersFile = UnixFileMode.UserRead | UnixFileMode.UserWrite;

    /// <summary>Writes a backup; the service may work on meanwhile.</summary>
    /// <exception cref="IOException">The folder is not empty, or can't be written.</exception>
    /// <exception cref="StoreUnavailableException">The database can't be read.</exception>
    public static async Task<BackupNote> WriteAsync(Target from, string folder, CancellationToken ct)
    {
        if (Whole(folder).StartsWith(Whole(from.Data), StringComparison.Ordinal))
            throw new IOException($"{folder} lies in the data folder, which is what is copied: name one elsewhere");
        MakeEmpty(folder);
        // What the database speaks of was there before it said so: files are copied after it.
        using (var connection = from.Open())
            await StoreCopy.WriteAsync(connection, Path.Combine(folder, Database));
        File.SetUnixFileMode(Path.Combine(folder, Database), OwnersFile);
        foreach (var file in Directory.Exists(from.Data) ? Kept(from.Data) : [])
            CopyFile(from.Data, file, folder);
        var note = new BackupNote(
            Kind,
            ServiceSettings.Version,
            SqlStore.Newest,
            DateTimeOffset.UtcNow,
            FilesOf(folder).ToDictionary(f => f, f => Sum(Path.Combine(folder, f)))
        );
        await File.WriteAllTextAsync(
            Path.Combine(folder, Note),
            JsonSerializer.Serialize(note, new JsonSerializerOptions(Json.Options) { WriteIndented = true }),
            ct
        );
        return note;
    }

    // With links followed, and with a slash behind it.
    private static string Whole(string folder)
    {
        var (path, rest) = (new DirectoryInfo(Path.GetFullPath(folder)), "");
        while (!path.Exists && path.Parent is { } parent)
            (rest, path) = ($"{path.Name}/{rest}", parent);
        for (var at = path; at is not null; at = at.Parent)
            if (at.ResolveLinkTarget(returnFinalTarget: true) is { } target)
                return Whole(Path.Combine(target.FullName, Path.GetRelativePath(at.FullName, path.FullName), rest));
        return $"{path.FullName.TrimEnd('/')}/{rest}";
    }

    /// <summary>Brings a backup back where nothing is yet.</summary>
    /// <param name="damaged">Also where some of it was damaged when it was backed up.</param>
    /// <exception cref="IOException">The target holds something, or a file is not the one that was written.</exception>
    /// <exception cref="StoreUnavailableException">The database holds something, can't be reached, or what was backed
    /// up is damaged.</exception>
    public static async Task RestoreAsync(string folder, Target to, bool damaged, CancellationToken ct)
    {
        var note = await ReadNoteAsync(folder, ct);
        foreach (var (file, sum) in note.Files)
            if (!File.Exists(Path.Combine(folder, file)) || Sum(Path.Combine(folder, file)) != sum)
                throw new IOException($"{file} is missing in {folder}, or is not what was written");
        using (var connection = StoreCopy.OpenFile(Path.Combine(folder, Database)))
            if (!damaged && SqlStore.Check(connection).FirstOrDefault(d => !d.Rebuilt) is { } damage)
                throw new StoreUnavailableException(
                    $"what was backed up is damaged: {damage.Of}: {damage.What}; bring it back all the same with "
                        + $"--damaged"
                );
        MakeEmpty(to.Data);
        if (to.Database is { } text)
            await StoreCopy.ToServerAsync(Path.Combine(folder, Database), text);
        else
            StoreCopy.ToFile(Path.Combine(folder, Database), to.File);
        foreach (var file in note.Files.Keys.Where(f => f != Database))
            CopyFile(folder, file, to.Data);
    }

    private static async Task<BackupNote> ReadNoteAsync(string folder, CancellationToken ct)
    {
        var path = Path.Combine(folder, Note);
        if (!File.Exists(path))
            throw new IOException($"{folder} is no backup: it has no {Note}");
        try
        {
            var note = JsonSerializer.Deserialize<BackupNote>(await File.ReadAllTextAsync(path, ct), Json.Options)!;
            if (note.Tidestep != Kind || note.Files.Keys.Any(f => Path.IsPathRooted(f) || f.Split('/').Contains("..")))
                throw new IOException($"{path} is of another kind than this program knows: {note.Tidestep}");
            return note.Schema > SqlStore.Newest
                ? throw new StoreUnavailableException(
                    $"the backup was written by a newer Tide Step, {note.Version}: bring it back with that"
                )
                : note;
        }
        catch (JsonException e)
        {
            throw new IOException($"{path} can't be read: {e.Message}", e);
        }
    }

    private static void MakeEmpty(string folder)
    {
        if (Directory.Exists(folder) && Directory.EnumerateFileSystemEntries(folder).Any())
            throw new IOException($"{folder} is not empty: name another folder");
        Directory.CreateDirectory(folder, OwnersFolder);
    }

    private static IEnumerable<string> FilesOf(string folder) =>
        Directory
            .EnumerateFiles(folder, "*", SearchOption.AllDirectories)
            .Select(f => Path.GetRelativePath(folder, f))
            .Order(StringComparer.Ordinal);

    // The database comes by itself; what is still being uploaded is sent again.
    private static IEnumerable<string> Kept(string data) =>
        FilesOf(data)
            .Where(f =>
                !f.StartsWith(Database, StringComparison.Ordinal)
                && !f.StartsWith(PartsOfUploads, StringComparison.Ordinal)
            );

    private static void CopyFile(string from, string file, string to)
    {
        var target = Path.Combine(to, file);
        Directory.CreateDirectory(Path.GetDirectoryName(target)!, OwnersFolder);
        try
        {
            File.Copy(Path.Combine(from, file), target);
        }
        catch (FileNotFoundException)
        {
            return; // given up meanwhile
        }
        File.SetUnixFileMode(target, OwnersFile);
    }

    private static string Sum(string path)
    {
        using var stream = File.OpenRead(path);
        return Convert.ToHexStringLower(SHA256.HashData(stream));
    }
}
