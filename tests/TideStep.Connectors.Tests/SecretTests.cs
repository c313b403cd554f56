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

    private const string Value = "a heron/stands? \"one\" leg+<ü>";

    [Theory]
    [InlineData("plain")]
    [InlineData("json")]
    [InlineData("url")]
    [InlineData("form")]
    [InlineData("html")]
    [InlineData("hex")]
    [InlineData("base64 after 0")]
    [InlineData("base64 after 1")]
    [InlineData("base64 after 2")]
    [InlineData("base64 after 5")]
    [InlineData("base64 url")]
    [InlineData("base64 lines")]
    public void Whatever_a_far_side_makes_of_a_secret_is_hidden(string way)
    {
        File.WriteAllText(Path.Combine(_folder, "long"), Value + "\n");
        if (OperatingSystem.IsLinux())
            File.SetUnixFileMode(Path.Combine(_folder, "long"), UnixFileMode.UserRead);
        var bytes = System.Text.Encoding.UTF8.GetBytes(Value);
        string After(int n) =>
            Convert.ToBase64String([.. System.Text.Encoding.UTF8.GetBytes("user:name"[..n]), .. bytes, .. "tail"u8]);
        var printed = way switch
        {
            "plain" => Value,
            "json" => System.Text.Json.JsonSerializer.Serialize(Value),
            "url" => Uri.EscapeDataString(Value).Replace("%2F", "%2f", StringComparison.Ordinal),
            "form" => System.Net.WebUtility.UrlEncode(Value),
            "html" => System.Net.WebUtility.HtmlEncode(Value),
            "hex" => Convert.ToHexStringLower(bytes),
            "base64 url" => System.Buffers.Text.Base64Url.EncodeToString(bytes),
            "base64 lines" => string.Join("\n", After(0).Chunk(12).Select(c => new string(c))),
            _ => After(int.Parse(way[^1..], System.Globalization.CultureInfo.InvariantCulture)),
        };
        if (way == "url")
            printed = System.Text.RegularExpressions.Regex.Replace(printed, "%[0-9A-F]{2}", m =>
                m.Value.ToLowerInvariant()
            );
        var shown = new Secrets(_folder).Mask(["long"], $"joined with {printed}: well");
        Assert.StartsWith("joined with ", shown);
        Assert.EndsWith(": well", shown);
        Assert.Contains("•••", shown);
        // What is left over is of what stood around it.
        Assert.True(shown.Length < 45, shown);
        Assert.Equal("nothing of it here", new Secrets(_folder).Mask(["long"], "nothing of it here"));
    }

    [Fact]
    public void A_long_key_is_hidden_whole_line_by_line_and_encoded()
    {
        using var key = System.Security.Cryptography.RSA.Create(4096);
        var pem = key.ExportPkcs8PrivateKeyPem();
        File.WriteAllText(Path.Combine(_folder, "key"), pem + "\n");
        if (OperatingSystem.IsLinux())
            File.SetUnixFileMode(Path.Combine(_folder, "key"), UnixFileMode.UserRead);
        var secrets = new Secrets(_folder);
        Assert.DoesNotContain(pem.Split('\n')[7], secrets.Mask(["key"], $"> {pem.Split('\n')[7]} <"));
        Assert.True(secrets.Mask(["key"], pem).Length < 500);
        var coded = Convert.ToBase64String(
            System.Text.Encoding.UTF8.GetBytes($"key: {pem}"),
            Base64FormattingOptions.InsertLineBreaks
        );
        var shown = secrets.Mask(["key"], coded);
        Assert.True(shown.Length < 50, shown);
    }

    [Fact]
    public void Another_key_takes_the_place_of_the_one_in_use_and_a_rotation_that_broke_off_loses_nothing()
    {
        var (store, key) = (Path.Combine(_folder, "vault.json"), Path.Combine(_folder, "vault.key"));
        var vault = new SecretVault(store, key);
        vault.Keep("ledger", "a quiet word"u8.ToArray());
        vault.Keep("relay", "another"u8.ToArray());
        var (before, sealedBefore) = (File.ReadAllBytes(key), File.ReadAllText(store));
        Assert.Equal(2, vault.Rotate());
        var after = File.ReadAllBytes(key);
        Assert.Equal(32, after.Length);
        Assert.NotEqual(before, after);
        Assert.Equal("a quiet word"u8.ToArray(), new SecretVault(store, key).Find("ledger"));
        // The key of before opens nothing that is kept now.
        File.WriteAllBytes(key, before);
        Assert.Throws<ConnectorException>(() => vault.Find("ledger"));

        // Broken off after the new key was written, and after some were sealed under it.
        File.WriteAllBytes(key, [.. after, .. before]);
        File.WriteAllText(store, sealedBefore);
        Assert.Equal("a quiet word"u8.ToArray(), vault.Find("ledger"));
        vault.Keep("relay", "a third"u8.ToArray());
        Assert.Equal(2, vault.Rotate());
        Assert.Equal(after, File.ReadAllBytes(key));
        Assert.Equal("a quiet word"u8.ToArray(), vault.Find("ledger"));
        Assert.Equal("a third"u8.ToArray(), vault.Find("relay"));

        File.WriteAllText(key, "short");
        Assert.Contains("holds no key", Assert.Throws<ConnectorException>(() => vault.Find("ledger")).Problem.What);
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
