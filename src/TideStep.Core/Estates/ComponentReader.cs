using System.Collections.Immutable;
using System.Globalization;
using TideStep.Core.Documents;

namespace TideStep.Core.Estates;

/// <summary>Reads the components of an estate document and checks their relations.</summary>
internal sealed class ComponentReader(
    ImmutableDictionary<string, Site> sites,
    ImmutableDictionary<string, EstateNode> nodes,
    Dictionary<string, string> platforms,
    Findings findings
)
{
    public ImmutableArray<Component> Read(Form document)
    {
        var components = ImmutableArray.CreateBuilder<Component>();
        foreach (var (id, node, at) in document.Map("components"))
        {
            Form.CheckId(id, at, "component", findings);
            components.Add(ReadComponent(id, node, at));
        }
        CheckRelations(components);
        foreach (var (component, platform) in platforms)
            if (components.All(c => c.Id != component))
                findings.Add(
                    $"platform {platform}: there is no component '{component}'",
                    document.PlaceOf("platforms"),
                    Nearest.Hint(component, components.Select(c => c.Id))
                );
        return [.. components.OrderBy(c => c.Id, StringComparer.Ordinal)];
    }

    private Component ReadComponent(string id, Node node, Place at)
    {
        var form = Form.Open(node, $"component {id}", findings);
        var product = form.Required("product");
        var site = form.Text("site");
        if (site is not null && !sites.ContainsKey(site))
            findings.Add(
                $"component {id}: there is no site '{site}'",
                form.PlaceOf("site"),
                Nearest.Hint(site, sites.Keys)
            );
        var roles = ReadRoles(form);
        var members = ReadMembers(id, form, roles);
        var guard = ReadGuard(form, members.Length);
        var (spares, spareNodes) = ReadSpares(form, members);
        var relations = ImmutableArray.CreateBuilder<Relation>();
        foreach (
            var (key, kind) in (ReadOnlySpan<(string, RelationKind)>)
                [
                    ("depends-on", RelationKind.DependsOn),
                    ("stands-on", RelationKind.StandsOn),
                    ("inside", RelationKind.Inside),
                    ("peer", RelationKind.Peer),
                ]
        )
        foreach (var item in form.List(key))
            relations.Add(ReadRelation(item, kind, form.What));
        var traits = form.Map("traits")
            .ToImmutableDictionary(t => t.Key, t => t.Value is TextNode text ? text.Text : "");
        var component = new Component(
            id,
            product,
            site ?? SharedSite(members),
            platforms.GetValueOrDefault(id),
            members,
            guard,
            form.Word("domains", "matter", "ignored") != "ignored",
            form.Count("canary") ?? 0,
            spares,
            form.Flag("carries-us"),
            form.Flag("pinned"),
            relations.ToImmutable(),
            traits,
            at
        )
        {
            SpareNodes = spareNodes,
            Alike = ReadAlike(form),
            InCommon = [.. form.Words("alike").Select(w => w.Text)],
            Capacity = ReadCapacity(form),
            Retired = form.Word("retired", "free", "gone") == "gone" ? Retired.Gone : Retired.Free,
            RunsWithDependants = form.Word("runs-with", "dependants") is not null,
        };
        form.Close();
        return component;
    }

    private LinePolicy ReadAlike(Form form)
    {
        if (form.Node("members-alike") is not { } node)
            return new LinePolicy(Degree.SameBuild, OutOfLine.Tell);
        var alike = Form.OpenOrWord(node, "to", $"{form.What}, members-alike", findings);
        var policy = new LinePolicy(
            alike.Word("to", "same-build", "same-minor", "any") switch
            {
                "any" => Degree.Any,
                "same-minor" => Degree.SameMinor,
                _ => Degree.SameBuild,
            },
            alike.Word("else", "tell", "warn", "out") switch
            {
                "warn" => OutOfLine.Warn,
                "out" => OutOfLine.Out,
                _ => OutOfLine.Tell,
            }
        );
        alike.Close();
        return policy;
    }

    private Capacity? ReadCapacity(Form form)
    {
        if (form.Node("capacity") is not { } node)
            return null;
        var capacity = Form.Open(node, $"{form.What}, capacity", findings);
        var (of, each) = (capacity.Required("of"), capacity.Required("each"));
        var amount = Expressions.Units.TryBytes(each)
            ?? (double.TryParse(each, NumberStyles.Float, CultureInfo.InvariantCulture, out var number) ? number : 0);
        if (each.Length > 0 && amount <= 0)
            findings.Add($"{capacity.What}: 'each' must be a number or a size, not '{each}'", capacity.PlaceOf("each"));
        capacity.Close();
        return new Capacity(of, amount, each);
    }

    // A number, or the nodes by name.
    private (int Count, ImmutableArray<string> Nodes) ReadSpares(Form form, ImmutableArray<Member> members)
    {
        if (
            form.Node("spares") is TextNode { Text: var text }
            && int.TryParse(text, NumberStyles.None, CultureInfo.InvariantCulture, out _)
        )
            return (form.Count("spares", 1) ?? 1, []);
        var found = new List<string>();
        foreach (var (written, at) in form.Words("spares"))
        foreach (var name in Expand(new TextNode(written, at), form.What))
        {
            if (!nodes.ContainsKey(name))
                findings.Add($"{form.What}, spares: there is no node '{name}'", at, Nearest.Hint(name, nodes.Keys));
            else if (members.Any(m => m.Node == name))
                findings.Add($"{form.What}, spares: '{name}' carries a member already", at);
            else if (found.Contains(name))
                findings.Add($"{form.What}, spares: the node '{name}' is named twice", at);
            else
                found.Add(name);
        }
        return (Math.Max(1, found.Count), [.. found]);
    }

    private string? SharedSite(ImmutableArray<Member> members)
    {
        var all = members.Select(m => nodes.GetValueOrDefault(m.Node)?.Site).Distinct().Take(2).ToList();
        return all.Count == 1 ? all[0] : null;
    }

    private Dictionary<string, string> ReadRoles(Form form)
    {
        var roleOf = new Dictionary<string, string>();
        foreach (var (role, value, at) in form.Map("roles"))
        foreach (var item in value is ListNode list ? list.Items : [value])
        foreach (var name in item is TextNode text ? Expand(text, form.What) : [])
            if (!roleOf.TryAdd(name, role))
                findings.Add($"{form.What}: '{name}' has two roles", item.At);
        return roleOf;
    }

    // How many nodes components may name in all, each as often as it is named; counted before they are made.
    private const int MostNamed = 1_000_000;
    private long _named;

    private ImmutableArray<string> Expand(TextNode text, string what)
    {
        if (NodePattern.CountOf(text.Text) is { } many)
        {
            if ((_named += many) <= MostNamed)
                return NodePattern.Expand(text.Text)!.Value;
            if (_named - many <= MostNamed)
                findings.Add(
                    $"{what}: the components name more than {MostNamed} nodes in all with '{text.Text}'",
                    text.At,
                    "Describe what is upgraded together as an estate of its own."
                );
            return [];
        }
        findings.Add(
            $"{what}: '{text.Text}' is no pattern of node names",
            text.At,
            "Patterns look like 'ns-led-[1-3]'."
        );
        return [];
    }

    private ImmutableArray<Member> ReadMembers(string id, Form form, Dictionary<string, string> roles)
    {
        var members = ImmutableArray.CreateBuilder<Member>();
        var seen = new HashSet<string>();
        foreach (var (text, at) in form.Words("members"))
        foreach (var name in Expand(new TextNode(text, at), form.What))
        {
            if (!nodes.ContainsKey(name))
                findings.Add($"{form.What}: there is no node '{name}'", at, Nearest.Hint(name, nodes.Keys));
            else if (!seen.Add(name))
                findings.Add($"{form.What}: the node '{name}' is named twice", at);
            else
                members.Add(new Member(id, name, roles.GetValueOrDefault(name)));
        }
        if (members.Count == 0)
            findings.Add($"{form.What}: has no members", form.At, "Add 'members: [node, ...]'.");
        foreach (var name in roles.Keys)
            if (!seen.Contains(name))
                findings.Add(
                    $"{form.What}: '{name}' has a role but is no member",
                    form.PlaceOf("roles"),
                    Nearest.Hint(name, seen)
                );
        return [.. members.OrderBy(m => m.Node, StringComparer.Ordinal)];
    }

    private Guard ReadGuard(Form form, int members)
    {
        if (form.Node("guard") is not { } node)
            return Guard.OneByOne;
        var guard = Form.OpenOrWord(node, "keep", $"{form.What}, guard", findings);
        var keep = guard.Text("keep") ?? "0";
        var (number, share, quorum) = (0, default(double?), false);
        if (keep == "quorum")
            quorum = true;
        else if (
            keep.EndsWith('%')
            && double.TryParse(keep[..^1], NumberStyles.Float, CultureInfo.InvariantCulture, out var percent)
            && percent is >= 0 and <= 100
        )
            share = percent / 100;
        else if (!int.TryParse(keep, NumberStyles.None, CultureInfo.InvariantCulture, out number))
            findings.Add(
                $"{guard.What}: '{keep}' is no guard",
                guard.PlaceOf("keep"),
                "Write a number of members, a share like 60%, or quorum."
            );
        if (number > members)
            findings.Add($"{guard.What}: keeps {number} of only {members} members", guard.PlaceOf("keep"));
        var read = new Guard(number, share, quorum, guard.Count("margin") ?? 0, guard.Count("at-once", 1) ?? 1);
        guard.Count("in-step");
        guard.Close();
        return read;
    }

    private Relation ReadRelation(Node item, RelationKind kind, string what)
    {
        if (item is TextNode text)
            return new Relation(kind, text.Text, false, false, text.At);
        if (item is MapNode { Entries: [var (key, value)] })
        {
            var marks = value switch
            {
                ListNode list => list.Items.OfType<TextNode>().Select(t => t.Text).ToArray(),
                TextNode one => [one.Text],
                _ => [],
            };
            foreach (var mark in marks)
                if (mark is not ("optional" or "may-be-out-together"))
                    findings.Add(
                        $"{what}: '{mark}' says nothing of a relation",
                        value.At,
                        Nearest.Hint(mark, ["optional", "may-be-out-together"])
                    );
            return new Relation(
                kind,
                key.Text,
                marks.Contains("optional"),
                marks.Contains("may-be-out-together"),
                key.At
            );
        }
        findings.Add($"{what}: a relation is a component's name, or {{name: optional}}", item.At);
        return new Relation(kind, "", false, false, item.At);
    }

    private void CheckRelations(IReadOnlyCollection<Component> components)
    {
        var byId = components.GroupBy(c => c.Id).ToDictionary(g => g.Key, g => g.First());
        foreach (var component in components)
        foreach (var relation in component.Relations)
        {
            if (relation.To.Length == 0)
                continue;
            if (!byId.TryGetValue(relation.To, out var other))
                findings.Add(
                    $"component {component.Id}: there is no component '{relation.To}'",
                    relation.Place,
                    Nearest.Hint(relation.To, byId.Keys)
                );
            else if (other == component)
                findings.Add($"component {component.Id}: is related to itself", relation.Place);
            else if (
                relation.Kind is RelationKind.StandsOn or RelationKind.Inside
                && !component.Members.Any(m => other.Members.Any(o => StandsOn(m.Node, o.Node)))
            )
                findings.Add(
                    $"component {component.Id}: stands on or inside '{other.Id}', but they share no node",
                    relation.Place
                );
        }
        if (Cycle(byId) is { } cycle)
            findings.Add(
                $"components stand on each other in a circle: {string.Join(" -> ", cycle)}",
                byId[cycle[0]].Place
            );
    }

    private bool StandsOn(string node, string host)
    {
        var seen = new HashSet<string>();
        for (var at = node; at is not null && seen.Add(at); at = nodes.GetValueOrDefault(at)?.On)
            if (at == host)
                return true;
        return false;
    }

    private static List<string>? Cycle(Dictionary<string, Component> byId)
    {
        var done = new HashSet<string>();
        foreach (var start in byId.Keys.Order(StringComparer.Ordinal))
            if (Walk(start, []) is { } found)
                return found;
        return null;

        List<string>? Walk(string id, List<string> trail)
        {
            if (trail.IndexOf(id) is >= 0 and var at)
                return [.. trail[at..], id];
            if (!done.Add(id) || !byId.TryGetValue(id, out var component))
                return null;
            trail.Add(id);
            foreach (var relation in component.Relations)
                if (
                    relation.Kind is RelationKind.StandsOn or RelationKind.Inside
                    && Walk(relation.To, trail) is { } found
                )
                    return found;
            trail.RemoveAt(trail.Count - 1);
            return null;
        }
    }
}
