using System.Security.Cryptography;
using System.Text;
using System.Text.Json;
using TideStep.Core.Documents;

namespace TideStep.Connectors;

/// <summary>The service's own store of secrets: one file, each value encrypted by itself (AES-GCM, 256 bits) under a
/// key that lies in a file of mode 0600 and may lie elsewhere.
/// A value is bound to its name, so that none can be put in another's place. The key's file may hold several keys one
/// after the other, the one in use first: that is how one takes another's place.</summary>
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
        foreach (var key in Keys())
            if (Opened(name, sealedValue, key) is { } value)
                return value;
        throw new ConnectorException(
            new Problem(
                $"the secret '{name}' can't be opened",
                "its store or the key was changed",
                $"Keep it anew with 'tidestep secret set {name}'."
            ),
            lasting: true
        );
    }

    private static byte[]? Opened(string name, byte[] sealedValue, byte[] key)
    {
        if (sealedValue.Length < NonceLength + TagLength)
            return null;
        using var cipher = new AesGcm(key, TagLength);
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
            return value;
        }
        catch (CryptographicException)
        {
            return null;
        }
    }

    private static byte[] Sealed(string name, byte[] value, byte[] key)
    {
        using var cipher = new AesGcm(key, TagLength);
        var sealedValue = new byte[NonceLength + TagLength + value.Length];
        RandomNumberGenerator.Fill(sealedValue.AsSpan(0, NonceLength));
        cipher.Encrypt(
            sealedValue.AsSpan(0, NonceLength),
            value,
            sealedValue.AsSpan(NonceLength + TagLength),
            sealedValue.AsSpan(NonceLength, TagLength),
            Encoding.UTF8.GetBytes(name)
        );
        return sealedValue;
    }

    /// <summary>Keeps a value under a name, in place of what was there.</summary>
    public void Keep(string name, byte[] value)
    {
        name = Secrets.NameOf(name);
        lock (_lock)
        {
            var all = Load();
            all[name] = Convert.ToBase64String(Sealed(name, value, Keys()[0]));
            Write(file, JsonSerializer.SerializeToUtf8Bytes(all));
        }
    }

    /// <summary>Seals every value under a new key, or under the first of the key's file where it holds several; the
    /// others count no more. It can be broken off anywhere: until the last value is sealed anew, the keys of before
    /// stay behind the new one.</summary>
    /// <returns>How many values were sealed anew.</returns>
    /// <exception cref="ConnectorException">The key's file can't be written, or a value can't be opened.</exception>
    public int Rotate()
    {
        lock (_lock)
        {
            // All are opened first: nothing is begun that could not be finished.
            var values = Load().Keys.ToDictionary(name => name, name => Find(name)!);
            var keys = Keys();
            if (keys.Count == 1)
            {
                keys = [RandomNumberGenerator.GetBytes(KeyLength), keys[0]];
                WriteKeys(keys);
            }
            var anew = new SortedDictionary<string, string>();
            foreach (var (name, value) in values)
                anew[name] = Convert.ToBase64String(Sealed(name, value, keys[0]));
            Write(file, JsonSerializer.SerializeToUtf8Bytes(anew));
            WriteKeys([keys[0]]);
            return anew.Count;
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

    private IReadOnlyList<byte[]> Keys()
    {
        lock (_lock)
        {
            if (!File.Exists(keyFile))
                Write(keyFile, RandomNumberGenerator.GetBytes(KeyLength));
            var bytes = File.ReadAllBytes(keyFile);
            return bytes.Length > 0 && bytes.Length % KeyLength == 0
                ? [.. bytes.Chunk(KeyLength)]
                : throw new ConnectorException(
                    new Problem(
                        $"{keyFile} holds no key",
                        $"it has {bytes.Length} bytes; a key has {KeyLength}",
                        "Bring the key back from a backup, or name its file with --vault-key."
                    ),
                    lasting: true
                );
        }
    }

    private void WriteKeys(IReadOnlyList<byte[]> keys)
    {
        try
        {
            Write(keyFile, [.. keys.SelectMany(k => k)]);
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            throw new ConnectorException(
                new Problem(
                    "the file of the key can't be written",
                    e.Message,
                    "Give the service a file with a new key and the one of now behind it (64 bytes), and rotate again; "
                        + "afterwards the new one alone."
                ),
                lasting: true,
                e
            );
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
