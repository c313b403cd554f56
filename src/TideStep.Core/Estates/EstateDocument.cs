using System.Collections.Immutable;
using System.Globalization;
using System.Text.RegularExpressions;
using TideStep.Core.Catalogue;
using TideStep.Core.Documents;

namespace TideStep.Core.Estates;

/// <summary>Reads an <c>estate/1</c> document (10-formats).</summary>
public static partial class EstateDocument
{
    public const string Kind = "estate/1";

    public static Checked<Estate> Read(string text, string file)
    {
        var node = DocumentReader.Read(text, file);
        if (node.Value is null || !node.Problems.IsEmpty)
            return new Checked<Estate>(null, node.Problems);
        var findings = new Findings();
        var form = Form.Open(node.Value, "the document", findings);
        DocumentKinds.Expect(form, Kind);
        var head = Form.OpenOrWord(form.Node("estate") ?? new TextNode("", form.At), "id", "estate", findings);
        var id = head.Required("id");
        if (id.Length > 0)
            Form.CheckId(id, head.PlaceOf("id"), "estate", findings);
        var kind = head.Word("class", "production", "test", "lab") switch
        {
            "test" => EstateClass.Test,
            "lab" => EstateClass.Lab,
            _ => EstateClass.Production,
        };
        var zone = head.Text("zone") ?? "UTC";
        if (!TimeZoneInfo.TryFindSystemTimeZoneById(zone, out _))
            findings.Add(
                $"estate: '{zone}' is no time zone",
                head.PlaceOf("zone"),
                "Write one like Europe/London or UTC."
            );
        var title = head.Text("title") ?? id;
        head.Close();

        var sites = ReadSites(form, findings);
        var nodes = ReadNodes(form, sites, findings);
        var platforms = ReadPlatforms(form, findings);
        var components = new ComponentReader(sites, nodes, platforms, findings).Read(form);
        var (windows, freezes) = (WindowRule.ReadAll(form, findings), Freeze.ReadAll(form, findings));
        var (signOffs, rehearsal) = (SignOffPolicy.Read(form, findings), RehearsalDemand.Read(form, findings));
        form.Close();
        return new Checked<Estate>(
            findings.Any
                ? null
                : new Estate(id, title, kind, zone, sites, nodes, components)
                {
                    Windows = windows,
                    Freezes = freezes,
                    SignOffs = signOffs,
                    Rehearsal = rehearsal,
                },
            findings.All
        );
    }

    private static ImmutableDictionary<string, Site> ReadSites(Form document, Findings findings)
    {
        var sites = ImmutableDictionary.CreateBuilder<string, Site>();
        var peers = new List<(string Text, Place At)>();
        foreach (var (id, node, at) in document.Map("sites"))
        {
            Form.CheckId(id, at, "site", findings);
            var form = Form.Open(node is TextNode { Text: "" } ? null : node, $"site {id}", findings, at);
            var its = form.Words("peers");
            peers.AddRange(its);
            sites[id] = new Site(id, form.Count("turn"), [.. its.Select(p => p.Text)]);
            form.Close();
        }
        foreach (var (peer, at) in peers)
            if (!sites.ContainsKey(peer))
                findings.Add($"there is no site '{peer}'", at, Nearest.Hint(peer, sites.Keys));
        return sites.ToImmutable();
    }

    private static ImmutableDictionary<string, EstateNode> ReadNodes(
        Form document,
        ImmutableDictionary<string, Site> sites,
        Findings findings
    )
    {
        var nodes = ImmutableDictionary.CreateBuilder<string, EstateNode>();
        var guests = new List<(string Pattern, Place At)>();
        if (!Few(document, findings))
            return nodes.ToImmutable();
        foreach (var (pattern, value, at) in document.Map("nodes"))
        {
            var form = Form.Open(value is TextNode { Text: "" } ? null : value, $"node {pattern}", findings, at);
            var site = form.Required("site");
            if (site.Length > 0 && !sites.ContainsKey(site))
                findings.Add(
                    $"node {pattern}: there is no site '{site}'",
                    form.PlaceOf("site"),
                    Nearest.Hint(site, sites.Keys)
                );
            var domains = form.Words("domain").Select(d => d.Text).ToArray();
            var reach = ReadReach(form, pattern, findings);
            var traits = form.Map("traits")
                .ToImmutableDictionary(t => t.Key, t => t.Value is TextNode text ? text.Text : "");
            var hosts = form.Words("on").Select(h => h.Text).ToArray();
            var movable = form.Flag("movable");
            if (movable && hosts.Length == 0)
                findings.Add(
                    $"{form.What}: 'movable' says that its host can be emptied of it, and it stands on none",
                    form.PlaceOf("movable"),
                    "Name the host: on: NODE."
                );
            if (hosts.Length > 0)
                guests.Add((pattern, form.PlaceOf("on")));
            form.Close();
            if (NodePattern.Expand(pattern) is not { } names)
            {
                findings.Add($"'{pattern}' is no pattern of node names", at, "Patterns look like 'ns-led-[1-3]'.");
                continue;
            }
            for (var i = 0; i < names.Length; i++)
            {
                Form.CheckId(names[i], at, "node", findings);
                // Settings are patterns too: {id} is the node's own name.
                var own = reach with
                {
                    Settings = reach.Settings.ToImmutableDictionary(s => s.Key, s => s.Value.Replace("{id}", names[i])),
                };
                if (
                    !nodes.TryAdd(
                        names[i],
                        new EstateNode(names[i], site, domains.Length == 0 ? null : domains[i % domains.Length], own)
                        {
                            Traits = traits,
                            On = hosts.Length == 0 ? null : hosts[i % hosts.Length].Replace("{id}", names[i]),
                            Movable = movable,
                        }
                    )
                )
                    findings.Add($"the node '{names[i]}' is described twice", at);
            }
        }
        ResolveVia(nodes, findings);
        CheckHosts(nodes, guests, findings);
        return nodes.ToImmutable();
    }

    /// <summary>The most nodes that an estate may have; counted before they are made.</summary>
    public const int NodeLimit = 250_000;

    private static bool Few(Form document, Findings findings)
    {
        var all = 0L;
        foreach (var (pattern, _, at) in document.Map("nodes"))
        {
            var many = NodePattern.CountOf(pattern) ?? 0;
            if ((all += many) <= NodeLimit)
                continue;
            findings.Add(
                $"the estate has more than {NodeLimit} nodes with '{pattern}', which stands for {many}",
                at,
                "Describe what is upgraded together as an estate of its own."
            );
            return false;
        }
        return true;
    }

    [GeneratedRegex(@"\A(/[A-Za-z0-9_][A-Za-z0-9._-]*)+\z")]
    private static partial Regex StateFolder { get; }

    private static Reach ReadReach(Form form, string pattern, Findings findings)
    {
        if (form.Node("reach") is not { } node)
            return new Reach("person", ImmutableDictionary<string, string>.Empty);
        var reach = Form.OpenOrWord(node, "by", $"node {pattern}, reach", findings);
        var by = reach.Word("by", "ssh", "stand-in", "person", "http", "sql") ?? "person";
        var settings = ImmutableDictionary.CreateBuilder<string, string>();
        string[] known = by switch
        {
            "ssh" => ["address", "port", "account", "key", "host-keys", "state", "via"],
            "stand-in" => ["address"],
            "http" => ["address", "token", "client-certificate", "authority"],
            _ => [],
        };
        foreach (var key in known)
            if (reach.Text(key) is { } value)
                settings[key] = value;
        foreach (
            var key in by == "ssh" ? ["address", "account", "key", "host-keys"]
            : by is "stand-in" or "http" ? new[] { "address" }
            : []
        )
            if (!settings.ContainsKey(key))
                findings.Add(
                    $"{reach.What}: '{key}' is missing",
                    reach.At,
                    key == "host-keys"
                        ? "Name the file of pinned host keys, in the known_hosts format."
                        : $"Add '{key}: ...'."
                );
        foreach (var secret in new[] { "key", "token", "client-certificate" })
            if (settings.TryGetValue(secret, out var given) && !given.StartsWith("secret:", StringComparison.Ordinal))
                findings.Add(
                    $"{reach.What}: '{secret}' is given as a reference",
                    reach.PlaceOf(secret),
                    "Write secret:NAME and keep the value in the service's secrets folder."
                );
        // It stands in lines that a shell runs as root.
        if (settings.TryGetValue("state", out var state) && !StateFolder.IsMatch(state))
            findings.Add(
                $"{reach.What}: 'state' is no folder: '{state}'",
                reach.PlaceOf("state"),
                "Write the whole path of a folder, of letters, digits and . _ - alone, as /var/lib/tidestep."
            );
        if (by is "sql" or "ssh")
            ReadDatabase(reach, settings, by == "sql", findings);
        reach.Close();
        return new Reach(by, settings.ToImmutable());
    }

    // A database server on a host, or one that is reached by nothing else.
    private static void ReadDatabase(
        Form reach,
        ImmutableDictionary<string, string>.Builder settings,
        bool required,
        Findings findings
    )
    {
        if (reach.Node("database") is not { } node)
        {
            if (required)
                findings.Add(
                    $"{reach.What}: 'database' is missing",
                    reach.At,
                    "Write database: {host: ..., name: ..., account: ..., password: \"secret:...\"}."
                );
            return;
        }
        var database = Form.Open(node, $"{reach.What}, database", findings);
        foreach (var key in (string[])["host", "port", "name", "account", "password", "encryption"])
            if (database.Text(key) is { } value)
                settings[$"database.{key}"] = value;
        foreach (var key in (string[])["host", "name", "account"])
            if (!settings.ContainsKey($"database.{key}"))
                findings.Add($"{database.What}: '{key}' is missing", database.At, $"Add '{key}: ...'.");
        if (
            settings.TryGetValue("database.password", out var password)
            && !password.StartsWith("secret:", StringComparison.Ordinal)
        )
            findings.Add(
                $"{database.What}: 'password' is given as a reference",
                database.PlaceOf("password"),
                "Write secret:NAME and keep the value in the service's secrets folder."
            );
        if (settings.TryGetValue("database.encryption", out var encryption) && encryption is not ("required" or "none"))
            findings.Add(
                $"{database.What}: 'encryption' is required or none, not '{encryption}'",
                database.PlaceOf("encryption")
            );
        database.Close();
    }

    // A node behind another is reached through it; the connector needs that one's settings beside its own.
    // A host is a node of the estate, at the same site, and nothing stands on itself.
    private static void CheckHosts(
        ImmutableDictionary<string, EstateNode>.Builder nodes,
        List<(string Pattern, Place At)> guests,
        Findings findings
    )
    {
        foreach (var (pattern, at) in guests)
        foreach (var id in NodePattern.Expand(pattern) ?? [])
        {
            if (nodes[id].On is not { } host)
                continue;
            if (!nodes.TryGetValue(host, out var below))
                findings.Add($"node {id}: there is no node '{host}' to stand on", at, Nearest.Hint(host, nodes.Keys));
            else if (below.Site != nodes[id].Site)
                findings.Add($"node {id}: it is at {nodes[id].Site}, and its host '{host}' at {below.Site}", at);
            else if (Chain(host).Contains(id))
                findings.Add($"node {id}: it stands on itself, by way of '{host}'", at);
        }

        IEnumerable<string> Chain(string node)
        {
            var seen = new HashSet<string>();
            for (var next = node; next is not null && seen.Add(next); next = nodes.GetValueOrDefault(next)?.On)
                yield return next;
        }
    }

    private static void ResolveVia(ImmutableDictionary<string, EstateNode>.Builder nodes, Findings findings)
    {
        foreach (var (id, node) in nodes.ToList())
        {
            if (node.Reach["via"] is not { } via)
                continue;
            if (!nodes.TryGetValue(via, out var gate) || gate.Reach.By != "ssh")
                findings.Add(
                    $"node {id}: it is reached via '{via}', which is no node reached by ssh",
                    null,
                    Nearest.Hint(via, nodes.Keys)
                );
            else if (gate.Reach["via"] is not null)
                findings.Add(
                    $"node {id}: '{via}' is itself reached via another node",
                    null,
                    "Only one node may stand between."
                );
            else
                nodes[id] = node with
                {
                    Reach = node.Reach with
                    {
                        Settings = node.Reach.Settings.AddRange(
                            gate.Reach.Settings.Select(s => KeyValuePair.Create($"via.{s.Key}", s.Value))
                        ),
                    },
                };
        }
    }

    private static Dictionary<string, string> ReadPlatforms(Form document, Findings findings)
    {
        var platformOf = new Dictionary<string, string>();
        foreach (var (id, node, at) in document.Map("platforms"))
        {
            Form.CheckId(id, at, "platform", findings);
            var form = Form.Open(node, $"platform {id}", findings);
            form.Text("title");
            foreach (var (component, place) in form.Words("components"))
                if (!platformOf.TryAdd(component, id))
                    findings.Add($"'{component}' is in two platforms", place);
            form.Close();
        }
        return platformOf;
    }
}
