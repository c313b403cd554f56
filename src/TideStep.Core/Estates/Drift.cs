using System.Collections.Immutable;
using TideStep.Core.Catalogue;

namespace TideStep.Core.Estates;

/// <summary>A value of a member or component that is not what it should be, or not what it was: both side by
/// side.</summary>
/// <param name="Against">What it is held against: <c>component</c>, <c>last run</c>, <c>restart</c>, <c>staged</c>,
/// <c>catalogue</c>, <c>support</c>, <c>survey</c>, or <c>earlier survey</c>.</param>
/// <param name="Value">Which value: <c>running</c>, <c>installed</c>, <c>in service</c>, or a reading's name.</param>
public sealed record Difference(string Subject, string Against, string Value, string Expected, string Found);

/// <summary>Finds what stands out of line; only what differs is told.</summary>
public static class Drift
{
    /// <summary>A release whose support ends within this is told of.</summary>
    private static readonly int Soon = 90;

    /// <param name="index">The estate as it was last read.</param>
    /// <param name="left">What the last runs left on members they worked on.</param>
    /// <param name="day">The day of the question.</param>
    public static ImmutableArray<Difference> Of(
        EstateIndex index,
        IReadOnlyDictionary<string, string> left,
        DateOnly day
    )
    {
        var found = ImmutableArray.CreateBuilder<Difference>();
        foreach (var component in index.Components)
        {
            var read = component
                .Members.Where(m => index.Readings.Members.ContainsKey(m.Id))
                .Select(m => (Member: m, Reading: index.Readings.Of(m)))
                .ToList();
            var most = MostRun(index, component);
            var outside = index.Catalogue.Find(component.Product) is { } its
                ? OutOfLineMembers(index, component, its).Select(o => o.Member.Id).ToHashSet()
                : null;
            foreach (var (member, reading) in read)
            {
                if (
                    most is not null
                    && reading.Running != most
                    && (reading.Running is null || outside?.Contains(member.Id) != false)
                )
                    found.Add(new(member.Id, "component", "running", most, reading.Running ?? "nothing"));
                else if (
                    left.TryGetValue(member.Id, out var was)
                    && RunningText.IsVersion(was)
                    && reading.Running is { } now
                    && now != was
                )
                    found.Add(new(member.Id, "last run", "running", was, now));
                if (reading is { Running: { } runs, Installed: { } installed } && runs != installed)
                    found.Add(
                        new(
                            member.Id,
                            "restart",
                            "running",
                            index.Catalogue.Find(component.Product) is { } of
                                ? $"{installed}, by {InEffect.By(of, runs, installed)}"
                                : installed,
                            runs
                        )
                    );
                if (Waits(index, component, reading) is { } staged)
                    found.Add(new(member.Id, "staged", "staged", "nothing that waits", $"{staged} waits to be used"));
                if (!reading.InService && reading.Running is not null)
                    found.Add(new(member.Id, "component", "in service", "yes", "no"));
            }
            foreach (
                var (id, lost) in component
                    .Members.Where(m => index.Readings.Lost.ContainsKey(m.Id))
                    .Select(m => (m.Id, index.Readings.Lost[m.Id]))
            )
                found.Add(
                    new(
                        id,
                        "survey",
                        "running",
                        lost.Last?.Running is { } last ? $"{last}, as on {lost.At:yyyy-MM-dd HH:mm}" : "a reading",
                        $"not read: {lost.Why}"
                    )
                );
            foreach (var (member, reading, common, value) in NotInCommon(index, component))
                found.Add(new(member.Id, "component", reading, common, value));
            if (index.Catalogue.Find(component.Product) is not { } product)
                continue;
            foreach (
                var label in read.Select(r => r.Reading.Running)
                    .OfType<string>()
                    .Distinct()
                    .Order(StringComparer.Ordinal)
            )
                if (product.Scheme.TryParse(label) is not { } version || product.ReleaseOf(version) is not { } release)
                    found.Add(new(component.Id, "catalogue", "running", $"a release of {product.Id}", label));
                else if (release.Ends is { } ends && ends.DayNumber - day.DayNumber < Soon)
                    found.Add(
                        new(
                            component.Id,
                            "support",
                            label,
                            "a release that is supported",
                            ends < day
                                ? $"support ended on {ends:yyyy-MM-dd}"
                                : $"support ends on {ends:yyyy-MM-dd}, in {ends.DayNumber - day.DayNumber} d"
                        )
                    );
        }
        return found.ToImmutable();
    }

    /// <summary>Members of which a reading is not as of most, of those that all of them must have in
    /// common.</summary>
    public static IEnumerable<(Member Member, string Reading, string Most, string Found)> NotInCommon(
        EstateIndex index,
        Component component
    )
    {
        foreach (var reading in component.InCommon)
        {
            var read = component
                .Members.Select(m => (Member: m, Value: ValueOf(index.Readings.Of(m), reading)))
                .Where(r => r.Value is not null)
                .ToList();
            // Of as many, what the first member has.
            if (read.GroupBy(r => r.Value!).MaxBy(g => g.Count())?.Key is not { } most)
                continue;
            foreach (var (member, value) in read.Where(r => r.Value != most))
                yield return (member, reading, most, value!);
        }
    }

    /// <summary>A reading of a member by its name, its versions among them; null where it is not there.</summary>
    public static string? ValueOf(MemberReading read, string reading) =>
        reading switch
        {
            "running" => read.Running,
            "installed" => read.Installed,
            "staged" => read.Staged,
            "role" => read.Role,
            _ => read.Values.GetValueOrDefault(reading),
        };

    // A newer version in the other slot or place; an older one there is what a return would use.
    private static string? Waits(EstateIndex index, Component component, MemberReading reading) =>
        reading.Staged is { } staged
        && staged != reading.Running
        && staged != reading.Installed
        && index.Catalogue.Find(component.Product)?.Scheme is { } scheme
        && !(scheme.TryParse(staged) is { } waits && scheme.TryParse(reading.Running ?? "") is { } runs && waits < runs)
            ? staged
            : null;

    // What most members run is what the component should run; of as many the newer.
    private static string? MostRun(EstateIndex index, Component component) =>
        component
            .Members.Select(m => index.Readings.Of(m).Running)
            .OfType<string>()
            .GroupBy(r => r)
            .OrderByDescending(g => g.Count())
            .ThenByDescending(g => index.Catalogue.Find(component.Product)?.Scheme.TryParse(g.Key))
            .FirstOrDefault()
            ?.Key;

    /// <summary>Members that run otherwise than most of their component, beyond the degree to which it asks for the
    /// same.</summary>
    public static IEnumerable<(Member Member, string Most, string Runs)> OutOfLineMembers(
        EstateIndex index,
        Component component,
        Product product
    )
    {
        if (component.Alike.Degree == Degree.Any || MostRun(index, component) is not { } most)
            yield break;
        foreach (var member in component.Members)
            if (
                index.Readings.Of(member).Running is { } runs
                && runs != most
                && !(
                    component.Alike.Degree == Degree.SameMinor
                    && product.Scheme.TryParse(runs) is { } a
                    && product.Scheme.TryParse(most) is { } b
                    && a.Major == b.Major
                    && a.Minor == b.Minor
                )
            )
                yield return (member, most, runs);
    }

    /// <summary>What a survey found otherwise than an earlier one.</summary>
    public static ImmutableArray<Difference> Between(Readings was, Readings now)
    {
        var found = ImmutableArray.CreateBuilder<Difference>();
        foreach (
            var id in was
                .Members.Keys.Union(now.Members.Keys)
                .Union(was.Lost.Keys)
                .Union(now.Lost.Keys)
                .Order(StringComparer.Ordinal)
        )
        {
            var (before, after) = (Told(was, id), Told(now, id));
            foreach (var value in before.Keys.Union(after.Keys))
                if (
                    before.GetValueOrDefault(value, "-") is var a
                    && after.GetValueOrDefault(value, "-") is var b
                    && a != b
                )
                    found.Add(new(id, "earlier survey", value, a, b));
        }
        return found.ToImmutable();
    }

    private static Dictionary<string, string> Told(Readings readings, string id)
    {
        if (readings.Lost.TryGetValue(id, out var lost))
            return new() { ["running"] = $"not read: {lost.Why}" };
        if (!readings.Members.TryGetValue(id, out var reading))
            return [];
        var told = new Dictionary<string, string>
        {
            ["running"] = reading.Running ?? "nothing",
            ["in service"] = reading.InService ? "yes" : "no",
        };
        if (reading.Installed is { } installed)
            told["installed"] = installed;
        if (reading.Staged is { } staged)
            told["staged"] = staged;
        if (reading.Role is { } role)
            told["role"] = role;
        foreach (var (name, value) in reading.Values.OrderBy(v => v.Key, StringComparer.Ordinal))
            told[name] = value;
        return told;
    }
}
