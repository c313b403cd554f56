using System.Collections.Concurrent;
using System.Collections.Immutable;
using System.Globalization;
using System.Security.Cryptography;
using TideStep.Core.Catalogue;
using TideStep.Core.Documents;
using TideStep.Core.Estates;
using TideStep.Core.Expressions;

namespace TideStep.Connectors.Ssh;

/// <summary>Reaches Linux hosts over SSH with a pinned host key and a key login. Effects run detached under our
/// wrapper, so that they outlive the connection.</summary>
public sealed class SshConnector(
    Secrets secrets,
    string installationFolder,
    HttpReader http,
    SqlConnector databases,
    TimeProvider time
) : IConnector, IStager, IDisposable
{
    private static readonly TimeSpan Quick = TimeSpan.FromSeconds(20);

    /// <summary>How long a command that was asked to end is given before it is made to.</summary>
    private static readonly TimeSpan StopGrace = TimeSpan.FromSeconds(10);

    private readonly ConcurrentDictionary<string, SshLine> _lines = new();

    public string By => "ssh";

    internal static string StateFolder(EstateNode node) => node.Reach["state"] ?? "/var/lib/tidestep";

    private SshHost HostOf(EstateNode node) => new(node, LineOf(node), time);

    // By how it is reached: where its address or key changed in a new revision of the estate, a node gets a new
    // connection.
    private SshLine LineOf(EstateNode node) =>
        _lines.GetOrAdd(
            string.Join(' ', node.Reach.Settings.OrderBy(s => s.Key, StringComparer.Ordinal)),
            _ => new SshLine(node, secrets, installationFolder)
            {
                Gate = GateOf(node) is { } gate ? LineOf(gate) : null,
            }
        );

    private static EstateNode? GateOf(EstateNode node) =>
        node.Reach["via"] is not { } via
            ? null
            : new EstateNode(
                via,
                node.Site,
                null,
                new Reach(
                    "ssh",
                    node.Reach.Settings.Where(s => s.Key.StartsWith("via.", StringComparison.Ordinal))
                        .ToImmutableDictionary(s => s.Key[4..], s => s.Value)
                )
            );

    public async Task<FenceReading> RaiseAsync(
        EstateNode node,
        string installation,
        long epoch,
        long position,
        CancellationToken ct
    )
    {
        var result = await HostOf(node)
            .RequestAsync(
                ["raise", installation, Text(epoch), Text(position)],
                Quick,
                TimeSpan.Zero,
                harmless: true,
                ct
            );
        var words = result.Output.Split((char[]?)null, StringSplitOptions.RemoveEmptyEntries);
        if (words is ["fence", var seen, var at] && long.TryParse(seen, out var e) && long.TryParse(at, out var p))
            return new FenceReading(e, p);
        throw Nonsense(node, result);
    }

    public async Task<Begun> BeginAsync(EstateNode node, FencedAttempt attempt, TimeSpan wait, CancellationToken ct)
    {
        if (
            attempt.Action is { Verb: "query", Arguments: [var statement, .. var parameters] }
            && node.Reach["database.host"] is not null
        )
            return await databases.BeginQueryAsync(node, attempt.Id, statement, parameters, wait, ct);
        var host = HostOf(node);
        var arguments = await ArgumentsAsync(node, host, attempt, ct);
        var argv = Shell.Join(arguments);
        var sent = await host.UptimeAsync(ct);
        var result = await host.RequestAsync(
            [
                "begin",
                attempt.Installation,
                attempt.Id,
                Text(attempt.Epoch),
                Text(attempt.Position),
                Text((long)attempt.StartWithin.TotalSeconds),
                Text(sent),
                Seconds(wait),
                argv,
            ],
            Quick,
            wait,
            harmless: false,
            ct
        );
        if (result.Later || !result.Whole)
            return Begun.Unread;
        if (!result.Output.StartsWith("refused ", StringComparison.Ordinal))
            return new Begun(null, Reading(node, result));
        // It never ran, so nothing else takes its secrets away.
        if (arguments.Any(a => a.Contains(SecretFiles.FolderOf(attempt.Id), StringComparison.Ordinal)))
            await host.RunAsync($"rm -rf -- {Shell.Quote(SecretFiles.FolderOf(attempt.Id))}", Quick, ct);
        return new Begun(result.Output[8..].Trim(), null);
    }

    public async Task<AttemptReading> StatusAsync(
        EstateNode node,
        string installation,
        string attempt,
        TimeSpan wait,
        CancellationToken ct
    )
    {
        var host = HostOf(node);
        Task<SshLine.Result> Ask(string verb, params string[] more) =>
            host.RequestAsync([verb, installation, attempt, .. more], Quick, wait, harmless: true, ct);
        var result = await Ask("status", Seconds(wait));
        if (result.Later)
            result = await Ask("status", "0");
        var reading = Reading(node, result);
        // What is said never to have run must not begin afterwards: a call may still be on its way there.
        return reading.Phase == AttemptPhase.Unknown ? Reading(node, await Ask("deny")) : reading;
    }

    public async Task StopAsync(EstateNode node, string installation, string attempt, long epoch, CancellationToken ct)
    {
        var result = await HostOf(node)
            .RequestAsync(
                ["stop", installation, attempt, Text(epoch), Seconds(StopGrace)],
                Quick + StopGrace,
                TimeSpan.Zero,
                harmless: true,
                ct
            );
        if (result.Output.StartsWith("refused ", StringComparison.Ordinal))
            throw new ConnectorException(
                new Problem($"{node.Id} refuses to stop an attempt: {result.Output[8..].Trim()}"),
                lasting: true
            );
        if (result.Code != 0)
            throw Nonsense(node, result);
    }

    private static AttemptReading Reading(EstateNode node, SshLine.Result result)
    {
        var line = result.Output.Split('\n', 2);
        var output = line.Length > 1 ? line[1] : "";
        var words = line[0].Split(' ');
        return words switch
        {
            ["running"] => new AttemptReading(AttemptPhase.Running, null, output),
            ["ended", var code] when int.TryParse(code, out var exit) => new AttemptReading(
                AttemptPhase.Ended,
                exit,
                output
            ),
            ["restarted"] => new AttemptReading(AttemptPhase.Restarted, null, output),
            ["lost"] => new AttemptReading(AttemptPhase.Lost, null, output),
            ["unknown"] => new AttemptReading(AttemptPhase.Unknown, null, ""),
            _ when result.Code == 0 => new AttemptReading(AttemptPhase.Torn, null, output),
            _ => throw Nonsense(node, result),
        };
    }

    private static ConnectorException Nonsense(EstateNode node, SshLine.Result result) =>
        new(
            new Problem(
                $"{node.Id} gave an answer that is not understood",
                $"exit status {result.Code}: "
                    + (result.Error + result.Output).Trim()[
                        ..Math.Min(200, (result.Error + result.Output).Trim().Length)
                    ],
                "Is the disk full, or sudo changed?"
            ),
            lasting: false
        );

    private static string Seconds(TimeSpan wait) => Text((long)Math.Ceiling(wait.TotalSeconds));

    private static string Text(long number) => number.ToString(CultureInfo.InvariantCulture);

    /// <summary>The argument list that carries an action out on a Debian host with systemd.</summary>
    private async Task<IReadOnlyList<string>> ArgumentsAsync(
        EstateNode node,
        SshHost host,
        FencedAttempt attempt,
        CancellationToken ct
    )
    {
        var (given, wrapper) = (attempt.Action.Arguments, $"{StateFolder(node)}/attempt.sh");
        switch (attempt.Action.Verb)
        {
            case "command":
                var (placed, names) = SecretFiles.Placed(given, attempt.Id);
                if (!names.IsEmpty)
                    await host.LayAsync(
                        SecretFiles.FolderOf(attempt.Id),
                        [.. names.Select(n => (n, secrets.BytesOf(n)))],
                        ct
                    );
                return placed;
            case "start":
                return ["systemctl", "start", "--", given[0]];
            case "stop":
                return ["systemctl", "stop", "--", given[0]];
            case "restart-service":
                return ["systemctl", "restart", "--", given[0]];
            case "restart-node":
                return ["systemctl", "reboot"];
            case "install":
                // Configuration files that were changed on the host are kept (confold); the new ones lie beside them.
                string[] apt =
                [
                    "env",
                    "DEBIAN_FRONTEND=noninteractive",
                    "apt-get",
                    "-y",
                    "-q",
                    "--no-install-recommends",
                    "-o",
                    "Dpkg::Options::=--force-confold",
                    "-o",
                    "DPkg::Lock::Timeout=30",
                ];
                var what =
                    given[2].Length > 0 ? given[2]
                    : given[1].Length > 0 ? $"{given[0]}={given[1]}"
                    : given[0];
                return given[3] == "down"
                    ? [.. apt, "--allow-downgrades", "install", "--", what]
                    : [.. apt, "install", "--", what];
            case "send":
                var local = attempt.Action.LocalFile!;
                string sum;
                await using (var file = File.OpenRead(local))
                    sum = Convert.ToHexStringLower(await SHA256.HashDataAsync(file, ct));
                // What was laid ready before is not sent again.
                var staged = $"{StagingPlace}/{Path.GetFileName(local)}";
                var lying = await host.RunAsync(
                    $"sudo -n /bin/sh -c "
                        + $"{Shell.Quote($"sha256sum -- {Shell.Quote(given[1])} {Shell.Quote(staged)} 2>/dev/null")}",
                    Hashing(new FileInfo(local).Length),
                    ct
                );
                if (lying.Output.Split('\n').Contains($"{sum}  {given[1]}"))
                    return ["true"];
                if (lying.Output.Split('\n').Contains($"{sum}  {staged}"))
                    return
                    [
                        "/bin/sh",
                        "-c",
                        "mkdir -p -- \"$(dirname -- \"$2\")\" && cp -- \"$1\" \"$2.new\" && mv -f -- \"$2.new\" \"$2\"",
                        "place",
                        staged,
                        given[1],
                    ];
                var staging = $"/tmp/tidestep-{attempt.Id}";
                await host.UploadAsync(local, staging, ct);
                return ["/bin/sh", wrapper, "place", staging, given[1], sum];
            case "capture":
                return ["/bin/sh", wrapper, "capture", given[0], .. given[1..]];
            case "capture-by":
                return ["/bin/sh", wrapper, "dump", .. given];
            case "check-point":
                return ["/bin/sh", wrapper, "check", .. given];
            case "discard-point":
                return ["/bin/sh", wrapper, "discard", .. given];
            default:
                throw new ConnectorException(
                    new Problem($"'{attempt.Action.Verb}' can't be done over SSH"),
                    lasting: true
                );
        }
    }

    public async Task<Taken> ReadAsync(
        EstateNode node,
        Member member,
        Product product,
        IReadOnlyCollection<Reference> wanted,
        CancellationToken ct
    )
    {
        var (found, missed, asked) = (
            new Dictionary<Reference, Value>(),
            new Dictionary<Reference, string>(),
            new List<HostQuestion>()
        );
        var elsewhere = new List<(Reference Reference, Collector Collector)>();
        foreach (var reference in wanted)
        {
            if (reference.Arguments.IsDefaultOrEmpty && product.Readings.TryGetValue(reference.Key, out var collector))
            {
                if (collector.By is "http" or "sql")
                    elsewhere.Add((reference, collector));
                else if (HostQuestion.Of(reference, collector, node, member) is { } own)
                    asked.Add(own);
                else
                    missed[reference] = $"a host over SSH has no report of its own to read '{collector.Field}' from";
            }
            else if (reference.Key == "reachable")
                found[reference] = Value.True;
            else if (HostQuestion.Of(reference) is { } question)
                asked.Add(question);
            else
                missed[reference] = "nothing tells how it is read";
        }
        // What is read from outside does not need the host to let us in.
        string? silent = null;
        foreach (var (reference, collector) in elsewhere)
        {
            var (value, why) = ((Value?)null, silent);
            if (collector.By == "http")
                (value, why, _) = await http.ReadAsync(node, member, collector, product.Scheme, ct);
            else if (silent is null)
            {
                // A database that does not answer is no host that does not: what the host tells is told all the same.
                try
                {
                    (value, why) = await databases.ReadAsync(node, collector, product.Scheme, ct);
                }
                catch (ConnectorException e)
                {
                    why = silent = e.Problem.What + (e.Problem.Detail is { } detail ? $" ({detail})" : "");
                }
            }
            if (value is not null)
                found[reference] = value;
            else
                missed[reference] = why!;
        }
        if (asked.Count > 0)
            foreach (var (question, value, why) in await AskedAsync(HostOf(node), asked, product, ct))
                if (value is not null)
                    found[question.Reference] = value;
                else
                    missed[question.Reference] = why!;
        return new Taken(found, missed);
    }

    // Secrets of what is asked lie in memory on the host while it is asked, and no longer.
    private async Task<IReadOnlyList<(HostQuestion Question, Value? Value, string? Why)>> AskedAsync(
        SshHost host,
        IReadOnlyList<HostQuestion> asked,
        Product product,
        CancellationToken ct
    )
    {
        var reading = $"read-{Guid.NewGuid():N}";
        var placed = asked.Select(q => (Question: q, Placed: SecretFiles.Placed(q.Arguments, reading))).ToList();
        var names = placed.SelectMany(p => p.Placed.Names).Distinct().ToList();
        if (names.Count == 0)
            return await host.AskAsync(asked, product, ct);
        // A secret that is not there leaves what needs it unread, and nothing else.
        var held = new Dictionary<string, byte[]>();
        var lacking = new Dictionary<string, string>();
        foreach (var name in names)
            try
            {
                held[name] = secrets.BytesOf(name);
            }
            catch (ConnectorException e)
            {
                lacking[name] = e.Problem.What;
            }
        string? Lacks(ImmutableArray<string> its) =>
            its.Select(lacking.GetValueOrDefault).FirstOrDefault(w => w is not null);
        var answerable = placed.Where(p => Lacks(p.Placed.Names) is null).ToList();
        List<(HostQuestion, Value?, string?)> answers =
        [
            .. placed
                .Where(p => Lacks(p.Placed.Names) is not null)
                .Select(p => (p.Question, (Value?)null, Lacks(p.Placed.Names))),
        ];
        try
        {
            await host.LayAsync(SecretFiles.FolderOf(reading), [.. held.Select(h => (h.Key, h.Value))], ct);
            var told = await host.AskAsync(
                [.. answerable.Select(p => p.Question with { Arguments = p.Placed.Arguments })],
                product,
                ct
            );
            answers.AddRange(told.Select(a => Guarded(a, held.Keys)));
        }
        finally
        {
            await CleanAsync(host, SecretFiles.FolderOf(reading));
        }
        return answers;
    }

    private static async Task CleanAsync(SshHost host, string folder)
    {
        try
        {
            await host.RunAsync($"rm -rf -- {Shell.Quote(folder)}", Quick, CancellationToken.None);
        }
        catch (ConnectorException)
        { /* it lies in memory, where the host's next start takes it away */
        }
    }

    // What a host answers with a secret in it is no reading.
    private (HostQuestion, Value?, string?) Guarded(
        (HostQuestion Question, Value? Value, string? Why) answer,
        IReadOnlyCollection<string> held
    ) =>
        new[] { answer.Value?.ToString(), answer.Why }.Any(t => t is not null && secrets.Mask(held, t) != t)
            ? (answer.Question, null, "its answer holds a secret, and is not kept")
            : answer;

    /// <summary>Where files are laid ready; steps that send them find them there.</summary>
    public const string StagingPlace = "/var/cache/tidestep";

    public async Task StageAsync(
        EstateNode node,
        StagedFile file,
        long bytesPerSecond,
        Action<long> sent,
        CancellationToken ct
    )
    {
        var (host, target) = (HostOf(node), $"{StagingPlace}/{file.Name}");
        // Of another content by the same name nothing is gone on from.
        var part = $"{StagingPlace}/.{file.Name}.{file.Sha256[..12]}.part";
        async Task<string> Ask(string text, TimeSpan limit) =>
            await host.RunAsync($"sudo -n /bin/sh -c {Shell.Quote(text)}", limit, ct) is { Code: 0 } result
                ? result.Output.Trim()
                : throw new ConnectorException(
                    new Problem(
                        $"{file.Name} can't be laid ready on {node.Id}",
                        CollectorText.Shown(text),
                        "Look at the disk and the account's rights."
                    ),
                    lasting: false
                );
        var told = (
            await Ask(
                $"mkdir -p {StagingPlace}; stat -c %s -- {Shell.Quote(target)} 2>/dev/null || echo none; stat "
                    + $"-c %s -- {Shell.Quote(part)} 2>/dev/null || echo 0; df --output=avail -B1 {StagingPlace} | "
                    + $"tail -1",
                Quick
            )
        ).Split('\n');
        if (
            told is not [var there, var partly, var avail]
            || !long.TryParse(partly, out var from)
            || !long.TryParse(avail.Trim(), out var free)
        )
            throw new ConnectorException(
                new Problem(
                    $"{node.Id} gave an answer that is not understood",
                    string.Join(' ', told),
                    "Is the disk full, or sudo changed?"
                ),
                lasting: false
            );
        if (
            there == Text(file.Bytes)
            && (await Ask($"sha256sum -- {Shell.Quote(target)}", Hashing(file.Bytes))).StartsWith(
                file.Sha256,
                StringComparison.OrdinalIgnoreCase
            )
        )
        {
            sent(file.Bytes);
            return;
        }
        if (from > file.Bytes)
        {
            await Ask($"rm -f -- {Shell.Quote(part)}", Quick);
            from = 0;
        }
        if (free < file.Bytes - from)
            throw new ConnectorException(
                new Problem(
                    $"there is no room for {file.Name} on {node.Id}",
                    $"it needs {Units.WriteBytes(file.Bytes - from)} in {StagingPlace}, there are "
                        + $"{Units.WriteBytes(free)}: {Units.WriteBytes(file.Bytes - from - free)} short",
                    "Clear the place, or make it larger."
                ),
                lasting: true
            );
        sent(from);
        if (from < file.Bytes)
            await host.AppendAsync(file.Path, part, from, bytesPerSecond, sent, ct);
        var sum = (await Ask($"sha256sum -- {Shell.Quote(part)}", Hashing(file.Bytes))).Split(' ')[0].TrimStart('\\');
        if (!sum.Equals(file.Sha256, StringComparison.OrdinalIgnoreCase))
        {
            await Ask($"rm -f -- {Shell.Quote(part)}", Quick);
            throw new ConnectorException(
                new Problem(
                    $"the checksum of {file.Name} is another on {node.Id}",
                    $"it is {sum} there, and should be {file.Sha256}",
                    "What was sent is taken away; stage it again."
                ),
                lasting: false
            );
        }
        await Ask($"chmod 644 -- {Shell.Quote(part)} && mv -f -- {Shell.Quote(part)} {Shell.Quote(target)}", Quick);
    }

    // Slow disks read about 50 MB a second.
    private static TimeSpan Hashing(long bytes) => Quick + TimeSpan.FromSeconds(bytes / 50e6);

    public void Dispose()
    {
        foreach (var line in _lines.Values)
            line.Dispose();
    }
}
