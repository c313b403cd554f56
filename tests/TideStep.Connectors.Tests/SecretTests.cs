using TideStep.Connectors.Ssh;

namespace TideStep.Connectors.Tests;

public sealed class SecretTests : IDisposable
{
    private readonly string _folder = Directory.CreateTempSubdirectory("tidestep-secrets").FullName;

    private void Put(string name, UnixFileMode mode)
    {
        File.WriteAllText(Path.Combine(_folder, name), "value");
        if (OperatingSystem.IsLinux())
            File.SetUnixFileMode(Path.Combine(_folder, name), mode);
    }

    [Fact]
    public void A_secret_that_others_may_read_is_refused()
    {
        Put("open", UnixFileMode.UserRead | UnixFileMode.GroupRead);
        Assert.Contains(
            "chmod 600",
            Assert.Throws<ConnectorException>(() => new Secrets(_folder).TextOf("secret:open")).Problem.Hint
        );
        Put("own", UnixFileMode.UserRead | UnixFileMode.UserWrite);
        Assert.Equal("value", new Secrets(_folder).TextOf("secret:own"));
    }

    [Theory]
    [InlineData("secret:../etc/passwd")]
    [InlineData("secret:")]
    [InlineData("secret:missing")]
    public void A_reference_leads_to_nothing_else(string reference) =>
        Assert.Throws<ConnectorException>(() => new Secrets(_folder).TextOf(reference));

    [Fact]
    public void What_the_service_keeps_is_encrypted_and_bound_to_its_name()
    {
        var (store, key) = (Path.Combine(_folder, "vault.json"), Path.Combine(_folder, "vault.key"));
        var vault = new SecretVault(store, key);
        vault.Keep("ledger", "a quiet word"u8.ToArray());
        vault.Keep("relay", "another"u8.ToArray());
        Assert.Equal(["ledger", "relay"], vault.Names);
        Assert.DoesNotContain("quiet", File.ReadAllText(store));
        Assert.Equal("a quiet word", new Secrets(_folder, new SecretVault(store, key)).TextOf("secret:ledger"));
        if (OperatingSystem.IsLinux())
            Assert.Equal(UnixFileMode.UserRead | UnixFileMode.UserWrite, File.GetUnixFileMode(key));
        // A value put in another's place is not taken for it.
        var kept = System.Text.Json.JsonSerializer.Deserialize<Dictionary<string, string>>(File.ReadAllText(store))!;
        File.WriteAllText(
            store,
            System.Text.Json.JsonSerializer.Serialize(new Dictionary<string, string> { ["relay"] = kept["ledger"] })
        );
        Assert.Throws<ConnectorException>(() => vault.Find("relay"));
        Assert.True(vault.Remove("relay"));
        Assert.False(vault.Remove("relay"));
        Assert.Null(vault.Find("relay"));
    }

    [Fact]
    public void The_environment_gives_a_secret_that_lies_nowhere_else()
    {
        Environment.SetEnvironmentVariable("TIDESTEP_SECRET_TEST_ONLY", "from outside");
        try
        {
            Assert.Equal("from outside", new Secrets(_folder).TextOf("secret:test-only"));
        }
        finally
        {
            Environment.SetEnvironmentVariable("TIDESTEP_SECRET_TEST_ONLY", null);
        }
    }

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
