using System.Collections.Concurrent;
using System.Security.Cryptography;
using System.Text;
using System.Text.RegularExpressions;
using TideStep.Core.Documents;

namespace TideStep.Connectors;

/// <summary>Resolves secret references (<c>secret:name</c>): from a file of mode 0600 in one folder, from the service's
/// own encrypted store, or from the environment (<c>TIDESTEP_SECRET_NAME</c>), in this order.
/// Values never leave the connector that needs them.</summary>
public sealed partial class Secrets(string folder, SecretVault? vault = null)
{
    /// <summary>The value as text.</summary>
    /// <exception cref="ConnectorException">There is no such secret, or others may read its file.</exception>
    public string TextOf(string reference) => Encoding.UTF8.GetString(BytesOf(reference));

    /// <summary>The value as it is kept.</summary>
    /// <exception cref="ConnectorException">There is no such secret, or others may read its file.</exception>
    public byte[] BytesOf(string reference)
    {
        var name = NameOf(reference);
        var path = Path.Combine(folder, name);
        if (File.Exists(path))
        {
            if (
                OperatingSystem.IsLinux()
                && (
                    File.GetUnixFileMode(path)
                    & (
                        UnixFileMode.GroupRead
                        | UnixFileMode.GroupWrite
                        | UnixFileMode.OtherRead
                        | UnixFileMode.OtherWrite
                    )
                ) != 0
            )
                throw new ConnectorException(
                    new Problem($"others may read the secret '{name}'", null, $"Run: chmod 600 {path}"),
                    lasting: true
                );
            return File.ReadAllBytes(path);
        }
        if (vault?.Find(name) is { } kept)
            return kept;
        if (Environment.GetEnvironmentVariable(VariableOf(name)) is { Length: > 0 } given)
            return Encoding.UTF8.GetBytes(given);
        throw new ConnectorException(
            new Problem(
                $"there is no secret '{name}'",
                null,
                $"Put it into {path} with mode 0600, keep it with 'tidestep secret set {name}', or start the "
                    + $"service with {VariableOf(name)}."
            ),
            lasting: true
        );
    }

    /// <summary>What keeps a secret from being used: it is not there, or others may read it; null where
    /// nothing.</summary>
    public Problem? Problem(string name)
    {
        try
        {
            BytesOf($"secret:{name}");
            return null;
        }
        catch (ConnectorException e)
        {
            return e.Problem;
        }
    }

    /// <summary>Tells whether a secret is another than before, and nothing of what it is; empty where none is
    /// named.</summary>
    /// <exception cref="ConnectorException">There is no such secret, or others may read its file.</exception>
    public string MarkOf(string? reference) =>
        reference is null ? "" : Convert.ToHexString(SHA256.HashData(BytesOf(reference)));

    // What finds a value, by its mark; a run asks for the same few again and again.
    private readonly ConcurrentDictionary<string, SecretForms> _forms = new();
    private const int MostForms = 256;

    /// <summary>Takes the values of secrets out of a text, in every form that a far side is likely to print them in, so
    /// that no output shows one.</summary>
    /// <param name="names">The secrets.</param>
    /// <exception cref="ConnectorException">There is no such secret, or others may read its file.</exception>
    public string Mask(IReadOnlyCollection<string> names, string text)
    {
        foreach (var name in names)
        {
            var value = TextOf(name);
            if (_forms.Count > MostForms)
                _forms.Clear();
            var mark = Convert.ToHexString(SHA256.HashData(Encoding.UTF8.GetBytes(value)));
            text = _forms.GetOrAdd(mark, _ => new SecretForms(value)).HideIn(text);
        }
        return text;
    }

    /// <summary>The name that a reference holds.</summary>
    public static string NameOf(string reference)
    {
        var name = reference.StartsWith("secret:", StringComparison.Ordinal) ? reference[7..] : reference;
        return Name().IsMatch(name)
            ? name
            : throw new ConnectorException(
                new Problem(
                    $"'{reference}' is no reference to a secret",
                    null,
                    "Write secret:NAME, of letters, digits, dots, dashes and underscores."
                ),
                lasting: true
            );
    }

    private static string VariableOf(string name) =>
        "TIDESTEP_SECRET_" + name.ToUpperInvariant().Replace('-', '_').Replace('.', '_');

    [GeneratedRegex(@"^[A-Za-z0-9_][A-Za-z0-9_.-]{0,99}$")]
    private static partial Regex Name();
}
