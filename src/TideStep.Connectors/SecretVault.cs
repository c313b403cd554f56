using System.Security.Cryptography;
using System.Text;
using System.Text.Json;
using TideStep.Core.Documents;

namespace TideStep.Connectors;

/// <summary>The service's own store of secrets: one file, each value encrypted by itself (AES-GCM, 256 bits) under a
/// key that lies in a file of mode 0600 and may lie elsewhere.
/// A value is bound to its name, so that none can be put in another's place.</summary>
public sealed class SecretVault(string file, string keyFile)
{
    private const int KeyLength = 32;
    private static readonly int NonceLength = AesGcm.NonceByteSizes.MaxSize;
    private static readonly int TagLength = AesGcm.TagByteSizes.MaxSize;

    private readonly Lock _lock = new();

    /// <summary>The names that are kept; never a value.</summary>
    public IReadOnlyList<string> Names
    {
        get
        {
            lock (_lock)
                return [.. Load().Keys.Order(StringComparer.Ordinal)];
        }
    }

    /// <summary>The value of that name, or null.</summary>
    /// <exception cref="ConnectorException">The store or its key was changed by somebody else.</exception>
    public byte[]? Find(string name)
    {
        byte[] sealedValue;
        lock (_lock)
        {
            if (!Load().TryGetValue(name, out var kept))
                return null;
            sealedValue = Convert.FromBase64String(kept);
        }
        using var cipher = new AesGcm(Key(), TagLength);
        var value = new byte[sealedValue.Length - NonceLength - TagLength];
        try
        {
            cipher.Decrypt(
                sealedValue.AsSpan(0, NonceLength),
                sealedValue.AsSpan(NonceLength + TagLength),
                sealedValue.AsSpan(NonceLength, TagLength),
                value,
                Encoding.UTF8.GetBytes(name)
            );
        }
        catch (CryptographicException e)
        {
            throw new ConnectorException(
                new Problem(
                    $"the secret '{name}' can't be opened",
                    "its store or the key was changed",
                    $"Keep it anew with 'tidestep secret set {name}'."
                ),
                lasting: true,
                e
            );
        }
        return value;
    }

    /// <summary>Keeps a value under a name, in place of what was there.</summary>
    public void Keep(string name, byte[] value)
    {
        name = Secrets.NameOf(name);
        using var cipher = new AesGcm(Key(), TagLength);
        var sealedValue = new byte[NonceLength + TagLength + value.Length];
        RandomNumberGenerator.Fill(sealedValue.AsSpan(0, NonceLength));
        cipher.Encrypt(
            sealedValue.AsSpan(0, NonceLength),
            value,
            sealedValue.AsSpan(NonceLength + TagLength),
            sealedValue.AsSpan(NonceLength, TagLength),
            Encoding.UTF8.GetBytes(name)
        );
        lock (_lock)
        {
            var all = Load();
            all[name] = Convert.ToBase64String(sealedValue);
            Write(file, JsonSerializer.SerializeToUtf8Bytes(all));
        }
    }

    /// <summary>Gives a name up; false where there is none.</summary>
    public bool Remove(string name)
    {
        lock (_lock)
        {
            var all = Load();
            if (!all.Remove(name))
                return false;
            Write(file, JsonSerializer.SerializeToUtf8Bytes(all));
            return true;
        }
    }

    private SortedDictionary<string, string> Load() =>
        File.Exists(file) ? JsonSerializer.Deserialize<SortedDictionary<string, string>>(File.ReadAllBytes(file))! : [];

    private byte[] Key()
    {
        lock (_lock)
        {
            if (!File.Exists(keyFile))
                Write(keyFile, RandomNumberGenerator.GetBytes(KeyLength));
            return File.ReadAllBytes(keyFile);
        }
    }

    // Written whole or not at all, and from its first moment for nobody else to read.
    private static void Write(string path, byte[] bytes)
    {
        var temporary = path + ".new";
        File.Delete(temporary);
        var options = new FileStreamOptions { Mode = FileMode.CreateNew, Access = FileAccess.Write };
        if (OperatingSystem.IsLinux())
            options.UnixCreateMode = UnixFileMode.UserRead | UnixFileMode.UserWrite;
        using (var stream = new FileStream(temporary, options))
        {
            stream.Write(bytes);
            stream.Flush(flushToDisk: true);
        }
        File.Move(temporary, path, overwrite: true);
    }
}
