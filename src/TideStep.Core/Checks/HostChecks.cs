using System.Collections.Immutable;
using TideStep.Core.Catalogue;
using TideStep.Core.Documents;
using TideStep.Core.Estates;
using TideStep.Core.Expressions;
using TideStep.Core.Plans;

namespace TideStep.Core.Checks;

/// <summary>What must hold of the hosts that a plan works on, by what every Linux host tells of itself: room, clock,
/// package lock, updates of its own, what is held, failed or owed, and the account's rights.
/// A host that does not tell such things (an appliance, a stand-in) is not asked.</summary>
public sealed class HostChecks(EstateIndex index, Plan plan, CheckContext context)
{
    /// <summary>Above this share in use a file system is told of.</summary>
    public const double Full = 0.90;

    /// <summary>Clocks further off than this are told of; certificates, leases and logs go by them.</summary>
    public static readonly TimeSpan ClockOff = TimeSpan.FromSeconds(2);

    private sealed record Host(
        string Node,
        ImmutableArray<int> Moves,
        IReadOnlyList<MemberReading> Readings,
        List<PlanStep> Steps
    )
    {
        public Value? Of(string name) =>
            Readings
                .Select(r =>
                    r.Values.TryGetValue(name, out var text)
                    && KnownReadings.KindOf(Reference.OfKey(name), ImmutableDictionary<string, Collector>.Empty)
                        is { } kind
                        ? Value.Read(text, kind)
                        : null
                )
                .FirstOrDefault(v => v is not null);

        public string? Missed(string name) =>
            Readings.Select(r => r.Missed.GetValueOrDefault(name)).FirstOrDefault(w => w is not null);

        public bool TellsAnything =>
            Readings.Any(r => r.Values.ContainsKey("kernel") || r.Missed.ContainsKey("kernel"));
    }

    public IEnumerable<Finding> All() =>
        Hosts()
            .SelectMany(host =>
                Room(host)
                    .Concat(Clock(host))
                    .Concat(Packages(host))
                    .Concat(Services(host))
                    .Concat(Rights(host))
                    .Concat(Points(host))
            );

    private List<Host> Hosts()
    {
        var movesOf = plan
            .Blocks.SelectMany(b => b.Lanes.SelectMany(l => l.Steps).Select(s => (s.Node, b.Move)))
            .Distinct()
            .ToLookup(x => x.Node, x => x.Move);
        var stepsOf = plan.Blocks.SelectMany(b => b.Lanes).SelectMany(l => l.Steps).ToLookup(s => s.Node);
        var membersOf = index.Components.SelectMany(c => c.Members).ToLookup(m => m.Node);
        return
        [
            .. movesOf
                .OrderBy(g => g.Key, StringComparer.Ordinal)
                .Select(g => new Host(
                    g.Key,
                    [.. g.Where(m => m > 0).Distinct().Order()],
                    [.. membersOf[g.Key].Select(m => index.Readings.Of(m))],
                    [.. stepsOf[g.Key]]
                ))
                .Where(h => h.TellsAnything),
        ];
    }

    private static Finding Say(Host host, string check, Level level, bool? holds, string what, string? remedy) =>
        new(
            check,
            host.Node,
            level,
            holds switch
            {
                true => CheckResult.Passed,
                false => CheckResult.Failed,
                _ => CheckResult.Open,
            },
            what,
            holds == true ? null : remedy,
            host.Moves
        )
        {
            Node = host.Node,
        };

    // A reading that is missing is open, with what stood in its way.
    private static IEnumerable<Finding> Asked(
        Host host,
        string reading,
        string check,
        Level level,
        string remedy,
        Func<Value, (bool Holds, string What)> judge
    )
    {
        if (host.Of(reading) is not { } value)
        {
            yield return Say(
                host,
                check,
                level,
                null,
                $"{reading} could not be read{(host.Missed(reading) is { } why ? $": {why}" : "")}",
                "Take a survey, or look why it is not told."
            );
            yield break;
        }
        var (holds, what) = judge(value);
        yield return Say(host, check, level, holds, what, remedy) with
        {
            Evidence = [new Used(reading, value.ToString())],
        };
    }

    private static IEnumerable<Finding> Room(Host host) =>
        Asked(host, "disk.fullest", "room", Level.Caution, "Clear it, or make it larger.", share =>
                (
                    share.Number < Full,
                    $"{host.Of("disk.mount")?.Text ?? "the fullest file system"} is {share} "
                        + $"full{(share.Number < Full ? "" : $", at most {Value.Of(Full, ValueKind.Share)} is asked")}"
                )
            )
            .Select(f =>
                f.Result == CheckResult.Failed && host.Of("disk.fullest") is { } share
                    ? f with
                    {
                        Found = share.ToString(),
                        Needed = $"at most {Value.Of(Full, ValueKind.Share)}",
                        Short = Value.Of(share.Number - Full, ValueKind.Share).ToString(),
                        ShortBy = share.Number - Full,
                    }
                    : f
            );

    private static IEnumerable<Finding> Clock(Host host) =>
        Asked(host, "clock.off", "clock", Level.Caution, "Let a time service set it.", off =>
                (
                    Math.Abs(off.Number) <= ClockOff.TotalSeconds,
                    $"its clock is {Value.Of(Math.Abs(off.Number), ValueKind.Time)} "
                        + $"{(off.Number >= 0 ? "ahead of" : "behind")} ours"
                )
            )
            .Select(f =>
                f.Result == CheckResult.Failed && host.Of("clock.off") is { } off
                    ? f with
                    {
                        Found = Value.Of(Math.Abs(off.Number), ValueKind.Time).ToString(),
                        Needed = $"at most {Durations.Write(ClockOff)}",
                        ShortBy = Math.Abs(off.Number) - ClockOff.TotalSeconds,
                    }
                    : f
            );

    private IEnumerable<Finding> Packages(Host host)
    {
        var installed = host.Steps.Select(s => s.Do).OfType<InstallAction>().Select(i => i.Package).Distinct().ToList();
        if (installed.Count == 0)
            yield break;
        foreach (
            var finding in Asked(
                host,
                "package-lock.free",
                "package-lock",
                Level.Blocker,
                "Let the other package work end first.",
                free =>
                    (
                        free.IsTrue,
                        free.IsTrue ? "nothing else installs packages" : "another program holds the package lock"
                    )
            )
        )
            yield return finding;
        foreach (
            var finding in Asked(
                host,
                "packages.held",
                "package-held",
                Level.Blocker,
                $"Release it: apt-mark unhold {string.Join(' ', installed)}",
                held =>
                    installed.Intersect(held.Text.Split(' ')).ToList() is { Count: > 0 } kept
                        ? (false, $"{string.Join(", ", kept)} is held at its version, and the plan installs it")
                        : (true, "nothing that the plan installs is held")
            )
        )
            yield return finding;
        // What comes from a package source needs one that answers; files at hand do not.
        if (
            host.Steps.Select(s => s.Do).OfType<InstallAction>().Any(i => i.File is null)
            && (host.Of("sources.closed") is not null || host.Missed("sources.closed") is not null)
        )
            foreach (
                var finding in Asked(
                    host,
                    "sources.closed",
                    "package-source",
                    Level.Blocker,
                    "Look at the way to it, or name another source.",
                    closed =>
                        (
                            closed.Text.Length == 0,
                            closed.Text.Length == 0 ? "every package source answers" : $"no answer from {closed.Text}"
                        )
                )
            )
                yield return finding;
        // Without a timer of that kind nothing begins by itself.
        if (host.Of("updates.next") is not { } next)
            yield break;
        var begins = index.Readings.Taken + TimeSpan.FromSeconds(next.Number);
        var clash = plan.Windows.IsEmpty
            ? begins >= context.Now && begins <= context.Now + plan.Expected
            : plan.Windows.Any(w => begins >= w.From && begins <= w.To);
        yield return Say(
            host,
            "updates-of-its-own",
            Level.Caution,
            !clash,
            $"its own updates begin next at "
                + $"{begins:yyyy-MM-dd HH:mm zzz}{(clash ? ", in the middle of the work" : "")}",
            "Put its timer off till the work is done."
        );
    }

    private static IEnumerable<Finding> Services(Host host)
    {
        foreach (
            var finding in Asked(
                host,
                "units.failed",
                "services",
                Level.Caution,
                "Repair it before, so that it does not look like damage of the upgrade.",
                failed => failed.Text.Length == 0 ? (true, "no service has failed") : (false, $"failed: {failed.Text}")
            )
        )
            yield return finding;
        foreach (
            var finding in Asked(
                host,
                "restart.due",
                "restart-due",
                Level.Advice,
                "Restart it before, or know that the next restart puts more into effect than this plan.",
                due => (!due.IsTrue, due.IsTrue ? "the host itself owes a restart" : "the host owes no restart")
            )
        )
            yield return finding;
    }

    private static IEnumerable<Finding> Rights(Host host) =>
        Asked(host, "administrator", "rights", Level.Blocker, "Give the account sudo without a password.", can =>
            (
                can.IsTrue,
                can.IsTrue
                    ? "the account logs in and may act as administrator"
                    : "the account may not act as administrator"
            )
        );

    // A rollback point needs room where it is put, and has to lie apart from what is upgraded.
    private static IEnumerable<Finding> Points(Host host)
    {
        foreach (
            var place in host
                .Steps.Select(s => s.Do)
                .OfType<CaptureAction>()
                .Where(c => c.To.Length > 0 && !c.Paths.IsEmpty)
                .GroupBy(c => c.To)
        )
        {
            var paths = place.SelectMany(c => c.Paths).Distinct().ToList();
            if (
                paths.FirstOrDefault(p =>
                    (place.Key.TrimEnd('/') + "/").StartsWith(p.TrimEnd('/') + "/", StringComparison.Ordinal)
                ) is
                { } within
            )
                yield return Say(
                    host,
                    $"point-place {place.Key}",
                    Level.Blocker,
                    false,
                    $"the rollback point would lie in {place.Key}, inside {within}, which is upgraded and captured",
                    "Put it elsewhere."
                );
            var sizes = paths.Select(p => host.Of($"size(\"{p}\")")).ToList();
            // The place itself may not be there yet; its file system is that of what is above it.
            var free = host.Of($"free(\"{place.Key}\")") ?? host.Of($"free(\"{Above(place.Key)}\")");
            var needed = sizes.Sum(s => s?.Number ?? 0);
            bool? holds = free is null || sizes.Any(s => s is null) ? null : free.Number >= needed;
            var what = holds is null
                ? $"the room of {place.Key}, or the size of {string.Join(", ", paths)}, could not be read"
                : $"needs at most {Written(needed)} in {place.Key}, has "
                    + $"{free}{(holds == true ? "" : $": {Written(needed - free!.Number)} short")}";
            yield return Say(
                host,
                $"point-room {place.Key}",
                Level.Blocker,
                holds,
                what,
                "Clear the place, or make it larger."
            ) with
            {
                Found = holds == false ? free!.ToString() : null,
                Needed = holds == false ? Written(needed) : null,
                Short = holds == false ? Written(needed - free!.Number) : null,
                ShortBy = holds == false ? needed - free!.Number : null,
            };
            yield return Say(
                host,
                $"point-apart {place.Key}",
                Level.Advice,
                false,
                $"the rollback point lies on {host.Node} itself: it is gone when the host is",
                "Let a step copy it elsewhere."
            );
        }
    }

    /// <summary>The nearest place that any host has.</summary>
    public static string Above(string place) =>
        place.Split('/', StringSplitOptions.RemoveEmptyEntries) is [var first, var second, ..]
            ? $"/{first}/{second}" is "/var/backups" or "/var/lib" or "/var/cache" or "/var/tmp"
                ? $"/{first}/{second}"
                : $"/{first}"
            : "/";

    private static string Written(double bytes) => Units.WriteBytes(bytes);
}
