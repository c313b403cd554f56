using System.Collections.Concurrent;
using System.Globalization;
using System.Security.Cryptography;
using TideStep.Core.Catalogue;
using TideStep.Core.Documents;
using TideStep.Core.Estates;
using TideStep.Core.Expressions;

namespace TideStep.Connectors.Ssh;

/// <summary>Reaches Linux hosts over SSH with a pinned host key and a key login. Effects run detached under our wrapper, so that they outlive the connection.</summary>
public sealed class SshConnector(Secrets secrets, string installationFolder, HttpReader http) : IConnector, IDisposable
{
    private static readonly TimeSpan Quick = TimeSpan.FromSeconds(20);
    /// <summary>How long a command that was asked to end is given before it is made to.</summary>
    private static readonly TimeSpan StopGrace = TimeSpan.FromSeconds(10);

    private readonly ConcurrentDictionary<string, SshHost> _hosts = new();

    public string By => "ssh";

    internal static string StateFolder(EstateNode node) => node.Reach["state"] ?? "/var/lib/tidestep";

    // A node whose address or key changed in a new revision of the estate gets a new connection.
    private SshHost HostOf(EstateNode node) => _hosts.GetOrAdd($"{node.Id} {string.Join(' ', node.Reach.Settings.OrderBy(s => s.Key))}", _ => new SshHost(node, secrets, installationFolder));

    private static string Wrapper(EstateNode node, params string[] arguments) => $"sudo -n /bin/sh {StateFolder(node)}/attempt.sh {Shell.Join(arguments)}";

    public async Task<FenceReading> RaiseAsync(EstateNode node, string installation, long epoch, long position, CancellationToken ct)
    {
        var result = await HostOf(node).RunAsync(Wrapper(node, "raise", installation, Text(epoch), Text(position)), Quick, ct);
        var words = result.Output.Split((char[]?)null, StringSplitOptions.RemoveEmptyEntries);
        if (words is ["fence", var seen, var at] && long.TryParse(seen, out var e) && long.TryParse(at, out var p)) return new FenceReading(e, p);
        throw Nonsense(node, result);
    }

    public async Task<Begun> BeginAsync(EstateNode node, FencedAttempt attempt, TimeSpan wait, CancellationToken ct)
    {
        var host = HostOf(node);
        var arguments = await ArgumentsAsync(node, host, attempt, ct);
        var argv = Shell.Join(arguments);
        var sent = await host.UptimeAsync(ct);
        var result = await host.RunAsync(Wrapper(node, "begin", attempt.Installation, attempt.Id, Text(attempt.Epoch), Text(attempt.Position), Text((long)attempt.StartWithin.TotalSeconds), Text(sent), Seconds(wait), argv), Quick + wait, ct);
        if (result.Output.StartsWith("refused ", StringComparison.Ordinal)) return new Begun(result.Output[8..].Trim(), null);
        return new Begun(null, Reading(node, result));
    }

    public async Task<AttemptReading> StatusAsync(EstateNode node, string installation, string attempt, TimeSpan wait, CancellationToken ct)
    {
        var result = await HostOf(node).RunAsync(Wrapper(node, "status", installation, attempt, Seconds(wait)), Quick + wait, ct);
        return Reading(node, result);
    }

    public async Task StopAsync(EstateNode node, string installation, string attempt, long epoch, CancellationToken ct)
    {
        var result = await HostOf(node).RunAsync(Wrapper(node, "stop", installation, attempt, Text(epoch), Seconds(StopGrace)), Quick + StopGrace, ct);
        if (result.Output.StartsWith("refused ", StringComparison.Ordinal)) throw new ConnectorException(new Problem($"{node.Id} refuses to stop an attempt: {result.Output[8..].Trim()}"), lasting: true);
        if (result.Code != 0) throw Nonsense(node, result);
    }

    private static AttemptReading Reading(EstateNode node, SshHost.Result result)
    {
        var line = result.Output.Split('\n', 2);
        var output = line.Length > 1 ? line[1] : "";
        var words = line[0].Split(' ');
        return words switch
        {
            ["running"] => new AttemptReading(AttemptPhase.Running, null, output),
            ["ended", var code] when int.TryParse(code, out var exit) => new AttemptReading(AttemptPhase.Ended, exit, output),
            ["restarted"] => new AttemptReading(AttemptPhase.Restarted, null, output),
            ["lost"] => new AttemptReading(AttemptPhase.Lost, null, output),
            ["unknown"] => new AttemptReading(AttemptPhase.Unknown, null, ""),
            _ when result.Code == 0 => new AttemptReading(AttemptPhase.Torn, null, output),
            _ => throw Nonsense(node, result),
        };
    }

    private static ConnectorException Nonsense(EstateNode node, SshHost.Result result) =>
        new(new Problem($"{node.Id} gave an answer that is not understood", $"exit status {result.Code}: {(result.Error + result.Output).Trim()[..Math.Min(200, (result.Error + result.Output).Trim().Length)]}", "Is the disk full, or sudo changed?"), lasting: false);

    private static string Seconds(TimeSpan wait) => Text((long)Math.Ceiling(wait.TotalSeconds));

    private static string Text(long number) => number.ToString(CultureInfo.InvariantCulture);

    /// <summary>The argument list that carries an action out on a Debian host with systemd.</summary>
    private static async Task<IReadOnlyList<string>> ArgumentsAsync(EstateNode node, SshHost host, FencedAttempt attempt, CancellationToken ct)
    {
        var (given, wrapper) = (attempt.Action.Arguments, $"{StateFolder(node)}/attempt.sh");
        switch (attempt.Action.Verb)
        {
            case "command": return given;
            case "start": return ["systemctl", "start", "--", given[0]];
            case "stop": return ["systemctl", "stop", "--", given[0]];
            case "restart-service": return ["systemctl", "restart", "--", given[0]];
            case "restart-node": return ["systemctl", "reboot"];
            case "install":
                // Configuration files that were changed on the host are kept (confold); the new ones lie beside them.
                string[] apt = ["env", "DEBIAN_FRONTEND=noninteractive", "apt-get", "-y", "-q", "--no-install-recommends", "-o", "Dpkg::Options::=--force-confold", "-o", "DPkg::Lock::Timeout=30"];
                var what = given[2].Length > 0 ? given[2] : given[1].Length > 0 ? $"{given[0]}={given[1]}" : given[0];
                return given[3] == "down" ? [.. apt, "--allow-downgrades", "install", what] : [.. apt, "install", what];
            case "send":
                var local = attempt.Action.LocalFile!;
                var staging = $"/tmp/tidestep-{attempt.Id}";
                await host.UploadAsync(local, staging, ct);
                await using (var file = File.OpenRead(local))
                    return ["/bin/sh", wrapper, "place", staging, given[1], Convert.ToHexStringLower(await SHA256.HashDataAsync(file, ct))];
            case "capture": return ["/bin/sh", wrapper, "capture", given[0], .. given[1..]];
            case "check-point": return ["/bin/sh", wrapper, "check", given[0], given[1]];
            default: throw new ConnectorException(new Problem($"'{attempt.Action.Verb}' can't be done over SSH"), lasting: true);
        }
    }

    public async Task<IReadOnlyDictionary<Reference, Value>> ReadAsync(EstateNode node, Member member, Product product, IReadOnlyCollection<Reference> wanted, CancellationToken ct)
    {
        var found = new Dictionary<Reference, Value>();
        foreach (var reference in wanted)
            if (await ReadOneAsync(node, member, product, reference, ct) is { } value) found[reference] = value;
        return found;
    }

    private async Task<Value?> ReadOneAsync(EstateNode node, Member member, Product product, Reference reference, CancellationToken ct)
    {
        if (reference.Key == "reachable")
        {
            try { return Value.Of((await HostOf(node).RunAsync("true", Quick, ct)).Code == 0); }
            catch (ConnectorException) { return Value.False; }
        }
        if (!reference.Arguments.IsDefaultOrEmpty) return await BuiltInAsync(node, product, reference, ct);
        if (!product.Readings.TryGetValue(reference.Name, out var collector)) return null;
        if (collector.By == "http") return await http.ReadAsync(node, collector, product.Scheme, ct);
        if (collector.By != "command") return null;
        var arguments = collector.Command.Select(a => a.Replace("{member.node}", member.Node).Replace("{member.component}", member.Component).Replace("{node.address}", node.Reach["address"]));
        var result = await HostOf(node).RunAsync("sudo -n " + Shell.Join(arguments), Quick, ct);
        return CollectorText.Read(collector, result.Output, product.Scheme);
    }

    private async Task<Value?> BuiltInAsync(EstateNode node, Product product, Reference reference, CancellationToken ct)
    {
        var argument = reference.Arguments[0];
        async Task<SshHost.Result> Ask(params string[] command) => await HostOf(node).RunAsync("sudo -n " + Shell.Join(command), Quick, ct);
        switch (reference.Name, reference.Field)
        {
            case ("service", "active"):
                return Value.Of((await Ask("systemctl", "is-active", "--quiet", "--", argument)).Code == 0);
            case ("package", "version"):
                var version = await Ask("dpkg-query", "-W", "-f", "${db:Status-Abbrev} ${Version}", argument);
                return version.Output.Split(' ', StringSplitOptions.RemoveEmptyEntries) is [_, var label] && product.Scheme.TryParse(label) is { } parsed ? Value.Of(parsed) : null;
            case ("package", "whole"):
                return Value.Of((await Ask("dpkg-query", "-W", "-f", "${db:Status-Abbrev}", argument)).Output.Trim() == "ii");
            case ("file", "exists"):
                return Value.Of((await Ask("test", "-e", argument)).Code == 0);
            case ("free", null):
                var free = await Ask("df", "--output=avail", "-B1", "--", argument);
                return free.Output.Split('\n', StringSplitOptions.RemoveEmptyEntries) is [_, var bytes] ? Value.Read(bytes, ValueKind.Bytes) : null;
            case ("size", null):
                var size = await Ask("du", "-sb", "--", argument);
                return Value.Read(size.Output.Split('\t')[0], ValueKind.Bytes);
            default:
                return null;
        }
    }

    public void Dispose()
    {
        foreach (var host in _hosts.Values) host.Dispose();
    }
}
