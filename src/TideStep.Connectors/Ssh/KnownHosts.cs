namespace TideStep.Connectors.Ssh;

/// <summary>Reads pinned host keys in OpenSSH's known_hosts format (sshd(8)); plain names only, hashed names are not
/// matched.</summary>
internal static class KnownHosts
{
    public static bool Holds(string file, string address, byte[] key)
    {
        if (!File.Exists(file))
            return false;
        var wanted = Convert.ToBase64String(key);
        foreach (var line in File.ReadLines(file))
        {
            var parts = line.Split((char[]?)null, StringSplitOptions.RemoveEmptyEntries);
            if (parts.Length < 3 || parts[0].StartsWith('#') || parts[0].StartsWith('@'))
                continue;
            if (parts[0].Split(',').Contains(address) && parts[2] == wanted)
                return true;
        }
        return false;
    }
}

/// <summary>Quotes for a POSIX shell, where a connection gives no other way to pass an argument.</summary>
internal static class Shell
{
    public static string Quote(string text) => "'" + text.Replace("'", "'\\''") + "'";

    public static string Join(IEnumerable<string> arguments) => string.Join(' ', arguments.Select(Quote));
}
