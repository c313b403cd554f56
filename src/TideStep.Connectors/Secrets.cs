using TideStep.Core.Documents;

namespace TideStep.Connectors;

/// <summary>Resolves secret references (<c>secret:name</c>) from files of mode 0600 in one folder. Values never leave the connector that needs them.</summary>
public sealed class Secrets(string folder)
{
    /// <summary>The file that holds a secret.</summary>
    /// <exception cref="ConnectorException">There is no such file, or others may read it.</exception>
    public string FileOf(string reference)
    {
        var name = reference.StartsWith("secret:", StringComparison.Ordinal) ? reference[7..] : reference;
        if (name.Length == 0 || name.Contains('/') || name.Contains("..")) throw new ConnectorException(new Problem($"'{reference}' is no reference to a secret", null, "Write secret:NAME."), lasting: true);
        var path = Path.Combine(folder, name);
        if (!File.Exists(path)) throw new ConnectorException(new Problem($"there is no secret '{name}'", null, $"Put it into {path} with mode 0600."), lasting: true);
        if (OperatingSystem.IsLinux() && (File.GetUnixFileMode(path) & (UnixFileMode.GroupRead | UnixFileMode.GroupWrite | UnixFileMode.OtherRead | UnixFileMode.OtherWrite)) != 0)
            throw new ConnectorException(new Problem($"others may read the secret '{name}'", null, $"Run: chmod 600 {path}"), lasting: true);
        return path;
    }
}
