using TideStep.Connectors.Ssh;

namespace TideStep.Connectors.Tests;

public sealed class SecretTests : IDisposable
{
    private readonly string _folder = Directory.CreateTempSubdirectory("tidestep-secrets").FullName;

    private void Put(string name, UnixFileMode mode)
    {
        File.WriteAllText(Path.Combine(_folder, name), "value");
        if (OperatingSystem.IsLinux()) File.SetUnixFileMode(Path.Combine(_folder, name), mode);
    }

    [Fact]
    public void A_secret_that_others_may_read_is_refused()
    {
        Put("open", UnixFileMode.UserRead | UnixFileMode.GroupRead);
        Assert.Contains("chmod 600", Assert.Throws<ConnectorException>(() => new Secrets(_folder).FileOf("secret:open")).Problem.Hint);
        Put("own", UnixFileMode.UserRead | UnixFileMode.UserWrite);
        Assert.EndsWith("/own", new Secrets(_folder).FileOf("secret:own"));
    }

    [Theory]
    [InlineData("secret:../etc/passwd")]
    [InlineData("secret:")]
    [InlineData("secret:missing")]
    public void A_reference_leads_to_nothing_else(string reference) => Assert.Throws<ConnectorException>(() => new Secrets(_folder).FileOf(reference));

    [Fact]
    public void A_host_is_trusted_by_its_pinned_key_alone()
    {
        var file = Path.Combine(_folder, "known");
        var key = new byte[] { 1, 2, 3 };
        File.WriteAllText(file, $"# pinned\n10.0.0.1,relay-1 ssh-ed25519 {Convert.ToBase64String(key)}\n");
        Assert.True(KnownHosts.Holds(file, "10.0.0.1", key));
        Assert.False(KnownHosts.Holds(file, "10.0.0.1", [1, 2, 4]));
        Assert.False(KnownHosts.Holds(file, "10.0.0.2", key));
        Assert.False(KnownHosts.Holds(file + ".missing", "10.0.0.1", key));
    }

    public void Dispose() => Directory.Delete(_folder, true);
}
