using System.Collections.Immutable;
using TideStep.Core.Catalogue;
using TideStep.Core.Documents;
using TideStep.Core.Estates;
using TideStep.Core.Expressions;
using TideStep.Core.Plans;
using TideStep.Core.Versions;

namespace TideStep.Core.Checks;

/// <summary>What must hold of the components that a plan works on besides their guards: that their members serve and
/// run alike, that those left can bear the load, that what they need can be reached,
/// that licences last, that one copy is there, that the jump takes every member, and that Tide Step itself is new
/// enough.</summary>
public sealed class ComponentChecks(EstateIndex index, Plan plan, CheckContext context)
{
    private readonly HashSet<string> _touched = [.. plan.Components];

    public IEnumerable<Finding> All() =>
        index
            .Components.Where(c => _touched.Contains(c.Id))
            .SelectMany(c =>
                index.Catalogue.Find(c.Product) is { } product
                    ? InStep(c)
                        .Concat(Alike(c, product))
                        .Concat(InCommon(c))
                        .Concat(Bears(c))
                        .Concat(Connections(c))
                        .Concat(Names(c))
                        .Concat(Licence(c))
                        .Concat(Copies(c))
                        .Concat(Floor(c, product))
                        .Concat(Needs(c, product))
                        .Concat(KeptLog(c, product))
                        .Concat(Backlog(c, product))
                        .Concat(Parents(c, product))
                    : []
            );

    private ImmutableArray<int> MovesOf(Component c) =>
        [.. plan.Moves.Where(m => m.Components.Contains(c.Id) || m.Out.Contains(c.Id)).Select(m => m.Number)];

    private Finding Say(
        Component c,
        string check,
        string subject,
        Level level,
        bool? holds,
        string what,
        string? remedy,
        string? node = null
    ) =>
        new(
            check,
            subject,
            level,
            holds switch
            {
                true => CheckResult.Passed,
                false => CheckResult.Failed,
                _ => CheckResult.Open,
            },
            what,
            holds == true ? null : remedy,
            MovesOf(c)
        )
        {
            Node = node,
        };

    private IEnumerable<(Member Member, MemberReading Reading)> Read(Component c) =>
        c.Members.Where(m => index.Readings.Members.ContainsKey(m.Id)).Select(m => (m, index.Readings.Of(m)));

    private IEnumerable<Finding> InStep(Component c)
    {
        var missing = Read(c).Where(r => !r.Reading.InService && r.Reading.Running is not null).ToList();
        foreach (var (member, reading) in missing)
            yield return Say(
                c,
                "in-step",
                member.Id,
                Level.Caution,
                false,
                $"it runs {reading.Running} and is not in step"
                    + (
                        reading.Missed.IsEmpty
                            ? ""
                            : $"; not read: "
                                + string.Join(
                                    ", ",
                                    reading
                                        .Missed.Select(m => $"{m.Key} ({m.Value})")
                                        .Order(StringComparer.Ordinal)
                                        .Take(3)
                                )
                    ),
                "Bring it in step, or find out why it is not.",
                member.Node
            );
        var stopped = Read(c).Where(r => r.Reading.Running is null && r.Reading.Installed is not null).ToList();
        foreach (var (member, reading) in stopped)
            yield return Say(
                c,
                "in-step",
                member.Id,
                Level.Caution,
                false,
                $"{reading.Installed} is installed and nothing runs",
                "Start it, or find out why it is stopped.",
                member.Node
            );
        if (missing.Count + stopped.Count == 0 && Read(c).Any())
            yield return Say(
                c,
                "in-step",
                c.Id,
                Level.Caution,
                true,
                "every member that was read runs and is in step",
                null
            );
    }

    // To the degree that the component asks for; what a member is out of line by is named.
    private IEnumerable<Finding> Alike(Component c, Product product)
    {
        if (c.Alike.Degree == Degree.Any || c.Alike.Otherwise == OutOfLine.Tell)
            yield break;
        foreach (var (member, most, runs) in Drift.OutOfLineMembers(index, c, product))
            yield return Say(
                c,
                "alike",
                member.Id,
                c.Alike.Otherwise == OutOfLine.Out ? Level.Blocker : Level.Caution,
                c.Alike.Otherwise == OutOfLine.Out && index.IsOut(member),
                $"it runs {runs}, the others {most}; "
                    + $"{(c.Alike.Degree == Degree.SameMinor ? "the same minor" : "the same build")} is asked "
                    + $"for{(c.Alike.Otherwise == OutOfLine.Out ? ", or that it is out of service" : "")}",
                "Bring it to the others' version, or take it out of service.",
                member.Node
            );
    }

    // What all members must have in common; what could not be read of one is open.
    private IEnumerable<Finding> InCommon(Component c)
    {
        foreach (var (member, reading, most, found) in Drift.NotInCommon(index, c))
            yield return Say(
                c,
                $"alike {reading}",
                member.Id,
                Level.Caution,
                false,
                $"{reading} is {found}, of the others {most}",
                "Bring it in line with the others first.",
                member.Node
            ) with
            {
                Found = found,
                Needed = most,
            };
        foreach (var reading in c.InCommon)
            if (
                c.Members.Where(m => Drift.ValueOf(index.Readings.Of(m), reading) is null).ToList() is
                { Count: > 0 } without
            )
                yield return Say(
                    c,
                    $"alike {reading}",
                    c.Id,
                    Level.Caution,
                    null,
                    $"there is no reading of {reading} of {without[0].Id}"
                        + (without.Count > 1 ? $" and {without.Count - 1} more" : ""),
                    "Take a survey, or mend the reading's name in the estate document."
                );
    }

    // What the members in service carry together has to fit on those left when the largest wave is out.
    private IEnumerable<Finding> Bears(Component c)
    {
        if (
            c.Capacity is not { } capacity
            || index.Catalogue.Find(c.Product)?.Readings.GetValueOrDefault(capacity.Of) is not { } collector
        )
            yield break;
        var serving = c.Members.Where(m => !index.IsOut(m)).ToList();
        var values = serving
            .Select(m =>
                index.Readings.Of(m).Values.TryGetValue(capacity.Of, out var text)
                    ? Value.Read(text, collector.Kind)
                    : null
            )
            .ToList();
        var away = plan
            .Blocks.Where(b => !b.ComponentsOut.Contains(c.Id))
            .Select(b => b.Outgoing.Count(m => m.StartsWith(c.Id + "/", StringComparison.Ordinal)))
            .DefaultIfEmpty(0)
            .Max();
        if (away == 0)
            yield break;
        if (values.Any(v => v is null))
        {
            yield return Say(
                c,
                "capacity",
                c.Id,
                Level.Caution,
                null,
                $"there is no reading of {capacity.Of} of {serving[values.FindIndex(v => v is null)].Id}",
                "Take a survey."
            );
            yield break;
        }
        Value Written(double number) => values[0]! with { Number = number };
        var (load, room) = (values.Sum(v => v!.Number), capacity.Each * (serving.Count - away));
        yield return Say(
            c,
            "capacity",
            c.Id,
            Level.Caution,
            load <= room,
            $"{capacity.Of} come to {Written(load)}; {serving.Count - away} members bear "
                + $"{Written(room)}{(load <= room ? "" : $": {Written(load - room)} short")}",
            "Let fewer members go out at once, wait for a quieter hour, or add members for the time."
        ) with
        {
            Found = load <= room ? null : Written(room).ToString(),
            Needed = load <= room ? null : Written(load).ToString(),
            Short = load <= room ? null : Written(load - room).ToString(),
            ShortBy = load <= room ? null : load - room,
            Evidence = [new Used(capacity.Of, Written(load).ToString())],
        };
    }

    // Where the other's product says on which port it serves, each host is asked whether it gets there.
    private IEnumerable<Finding> Connections(Component c)
    {
        foreach (var relation in c.Relations.Where(r => r.Kind == RelationKind.DependsOn))
        {
            if (
                index.Estate.Find(relation.To) is not { } other
                || index.Catalogue.Find(other.Product)?.Port is not { } port
            )
                continue;
            foreach (var (member, reading) in Read(c))
            foreach (var at in other.Members)
            {
                var key = $"reach(\"{index.Estate.Nodes[at.Node].Reach["address"]}\", \"{port}\").open";
                if (!reading.Values.TryGetValue(key, out var open) || index.IsOut(at))
                    continue;
                if (open != "true")
                    yield return Say(
                        c,
                        "connection",
                        $"{member.Id} to {at.Id}",
                        relation.Optional ? Level.Caution : Level.Blocker,
                        false,
                        $"{member.Node} gets no connection to {index.Estate.Nodes[at.Node].Reach["address"]}, "
                            + $"port {port}",
                        "Look at the network, the firewall and whether it listens.",
                        member.Node
                    );
            }
        }
    }

    /// <summary>Whether an address is a name that has to be resolved.</summary>
    public static bool IsName(string address) =>
        !address.Contains("://", StringComparison.Ordinal) && Uri.CheckHostName(address) == UriHostNameType.Dns;

    private IEnumerable<Finding> Names(Component c)
    {
        foreach (
            var (address, optional) in c
                .Relations.Where(r => r.Kind == RelationKind.DependsOn)
                .SelectMany(r =>
                    (index.Estate.Find(r.To)?.Members ?? []).Select(m =>
                        (Address: index.Estate.Nodes[m.Node].Reach["address"], r.Optional)
                    )
                )
                .Where(a => a.Address is not null && IsName(a.Address))
                .Distinct()
        )
        foreach (var (member, reading) in Read(c))
            if (reading.Values.TryGetValue($"name(\"{address}\").resolves", out var known) && known != "true")
                yield return Say(
                    c,
                    "name",
                    $"{member.Id} to {address}",
                    optional ? Level.Caution : Level.Blocker,
                    false,
                    $"{member.Node} does not know the name {address}",
                    "Look at its name service, or at its list of hosts.",
                    member.Node
                );
    }

    private IEnumerable<Finding> Licence(Component c)
    {
        var day = plan.Windows.IsEmpty ? plan.Day : DateOnly.FromDateTime(plan.Windows[^1].To.DateTime);
        foreach (var (member, reading) in Read(c))
            if (
                reading.Values.TryGetValue("licence-until", out var text)
                && DateOnly.TryParse(text, System.Globalization.CultureInfo.InvariantCulture, out var until)
            )
                yield return Say(
                    c,
                    "licence",
                    member.Id,
                    Level.Blocker,
                    until >= day,
                    $"its licence holds through {until:yyyy-MM-dd}, "
                        + (
                            until >= day
                                ? $"{until.DayNumber - day.DayNumber} d beyond"
                                : $"{day.DayNumber - until.DayNumber} d before"
                        )
                        + $" the work on {day:yyyy-MM-dd}",
                    "Renew it before.",
                    member.Node
                ) with
                {
                    ShortBy = until >= day ? null : day.DayNumber - until.DayNumber,
                };
    }

    private IEnumerable<Finding> Copies(Component c)
    {
        foreach (var (member, reading) in Read(c))
            if (
                reading.Values.TryGetValue("copies", out var text)
                && double.TryParse(text, System.Globalization.CultureInfo.InvariantCulture, out var copies)
            )
                yield return Say(
                    c,
                    "one-copy",
                    member.Id,
                    Level.Blocker,
                    copies == 1,
                    copies == 1
                        ? "exactly one version of it is there"
                        : $"{copies:0} copies of it are there, exactly one is asked for",
                    "Remove what is not in use.",
                    member.Node
                );
    }

    private Value? Told(MemberReading reading, Product product, string name) =>
        reading.Values.TryGetValue(name, out var text) && product.Readings.GetValueOrDefault(name) is { } collector
            ? Value.Read(text, collector.Kind)
            : null;

    // What those that stay write while one is away is kept for it; there has to be room for as long as the longest wave
    // lasts.
    private IEnumerable<Finding> KeptLog(Component c, Product product)
    {
        if (!product.Readings.ContainsKey("log-room") || !product.Readings.ContainsKey("log-per-hour"))
            yield break;
        var away = plan
            .Blocks.Where(b =>
                !b.ComponentsOut.Contains(c.Id)
                && b.Outgoing.Any(m => m.StartsWith(c.Id + "/", StringComparison.Ordinal))
            )
            .Select(b => (b.AtMost ?? b.Expected) + b.Settle)
            .DefaultIfEmpty(TimeSpan.Zero)
            .Max();
        if (away == TimeSpan.Zero)
            yield break;
        // Only who keeps a log for others tells it: the one that leads.
        var keeping = Read(c).Where(r => r.Reading.Values.ContainsKey("log-room")).ToList();
        if (keeping.Count == 0)
            yield return Say(
                c,
                "kept-log",
                c.Id,
                Level.Blocker,
                null,
                "no member tells how much room it has for what it keeps for the others",
                "Take a survey."
            );
        foreach (var (member, reading) in keeping)
        {
            if (
                Told(reading, product, "log-room") is not { } room
                || Told(reading, product, "log-per-hour") is not { } pace
            )
            {
                yield return Say(
                    c,
                    "kept-log",
                    member.Id,
                    Level.Blocker,
                    null,
                    "how fast its log grows could not be read",
                    "Take a survey.",
                    member.Node
                );
                continue;
            }
            var needed = pace with { Number = pace.Number * away.TotalHours };
            var holds = room.Number >= needed.Number;
            yield return Say(
                c,
                "kept-log",
                member.Id,
                Level.Blocker,
                holds,
                $"a member is away for up to {Durations.Write(away)}, in which it writes {needed} at {pace} "
                    + $"an hour; it may keep "
                    + $"{room}{(holds ? "" : $": {needed with { Number = needed.Number - room.Number }} short")}",
                "Let it keep more, make room, or choose a quieter hour.",
                member.Node
            ) with
            {
                Found = holds ? null : room.ToString(),
                Needed = holds ? null : needed.ToString(),
                Short = holds ? null : (needed with { Number = needed.Number - room.Number }).ToString(),
                ShortBy = holds ? null : needed.Number - room.Number,
                Evidence = [new Used("log-room", room.ToString()), new Used("log-per-hour", pace.ToString())],
            };
        }
    }

    // What was taken in and not yet passed on is lost where a store is rebuilt, and waits where its member only leaves.
    private IEnumerable<Finding> Backlog(Component c, Product product)
    {
        if (!product.Readings.ContainsKey("backlog"))
            yield break;
        var rebuilt = plan.Moves.Any(m =>
            (m.Method == Method.Replace && m.Component == c.Id)
            || m.Jumps.Any(j =>
                j.Component == c.Id && product.Jumps.FirstOrDefault(x => x.Id == j.Jump) is { Converts.IsEmpty: false }
            )
        );
        foreach (var (member, reading) in Read(c))
        {
            if (Told(reading, product, "backlog") is not { } backlog)
            {
                yield return Say(
                    c,
                    "backlog",
                    member.Id,
                    rebuilt ? Level.Blocker : Level.Caution,
                    null,
                    "its backlog could not be read",
                    "Take a survey.",
                    member.Node
                );
                continue;
            }
            var holds = backlog.Number == 0;
            yield return Say(
                c,
                "backlog",
                member.Id,
                rebuilt ? Level.Blocker : Level.Caution,
                holds,
                holds
                    ? "nothing waits to be passed on"
                    : $"{backlog} wait to be passed on{(rebuilt ? ", and its store is rebuilt" : "")}",
                "Let it be worked off first.",
                member.Node
            ) with
            {
                Found = holds ? null : backlog.ToString(),
                Needed = holds ? null : "0",
                ShortBy = holds ? null : backlog.Number,
                Evidence = [new Used("backlog", backlog.ToString())],
            };
        }
    }

    // The server that a member points to has to be one of those that its component depends on.
    private IEnumerable<Finding> Parents(Component c, Product product)
    {
        if (!product.Readings.ContainsKey("parent"))
            yield break;
        var right = c
            .Relations.Where(r => r.Kind == RelationKind.DependsOn)
            .Select(r => index.Estate.Find(r.To))
            .OfType<Component>()
            .SelectMany(o => o.Members)
            .SelectMany(m => new[] { m.Node, m.Id, index.Estate.Nodes[m.Node].Reach["address"] })
            .OfType<string>()
            .ToHashSet(StringComparer.OrdinalIgnoreCase);
        foreach (var (member, reading) in Read(c))
            yield return !reading.Values.TryGetValue("parent", out var parent)
                ? Say(
                    c,
                    "parent",
                    member.Id,
                    Level.Blocker,
                    null,
                    "which server it points to could not be read",
                    "Take a survey.",
                    member.Node
                )
                : Say(
                    c,
                    "parent",
                    member.Id,
                    Level.Blocker,
                    right.Contains(parent),
                    right.Contains(parent)
                        ? $"it points to {parent}"
                        : $"it points to {parent}, which is none of "
                            + (
                                string.Join(
                                    ", ",
                                    c.Relations.Where(r => r.Kind == RelationKind.DependsOn)
                                        .Select(r => r.To)
                                        .DefaultIfEmpty("those it depends on")
                                )
                            ),
                    "Point it to the right one, or say in the estate what it depends on.",
                    member.Node
                );
    }

    // A member below what the jump leads from would need a hop that the plan does not have.
    private IEnumerable<Finding> Floor(Component c, Product product)
    {
        if (
            plan.Moves.SelectMany(m => m.Jumps).FirstOrDefault(j => j.Component == c.Id) is not { } first
            || product.Jumps.FirstOrDefault(j => j.Id == first.Jump) is not { } jump
        )
            yield break;
        var below = Read(c)
            .Where(r =>
                r.Reading.Running is { } label
                && product.Scheme.TryParse(label) is { } v
                && !jump.From.Contains(v, product.IsRelease)
                && !v.Equals(jump.To)
            )
            .ToList();
        foreach (var (member, reading) in below)
            yield return Say(
                c,
                "floor",
                member.Id,
                Level.Blocker,
                false,
                $"it runs {reading.Running}; jump {jump.Id} leads from {jump.From}",
                "Bring it there first.",
                member.Node
            );
        if (below.Count == 0 && Read(c).Any())
            yield return Say(
                c,
                "floor",
                c.Id,
                Level.Blocker,
                true,
                $"every member is where jump {jump.Id} leads from ({jump.From})",
                null
            );
    }

    private IEnumerable<Finding> Needs(Component c, Product product)
    {
        if (
            product.Needs is not { } needs
            || context.OwnVersion is not { } own
            || VersionScheme.Dotted.TryParse(own) is not { } version
        )
            yield break;
        yield return Say(
            c,
            "tide-step",
            product.Id,
            Level.Blocker,
            needs.Contains(version),
            $"the catalogue's {product.Id} needs Tide Step {needs}; this is {own}",
            "Renew Tide Step first."
        );
    }
}
