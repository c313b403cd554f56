using System.Collections.Immutable;
using TideStep.Core.Catalogue;
using TideStep.Core.Estates;
using TideStep.Core.Expressions;
using TideStep.Core.Plans;

namespace TideStep.Core.Checks;

/// <summary>Puts the prerequisites of a plan's jumps to the readings (3-planning, Prerequisites and
/// findings).</summary>
internal static class PrerequisiteChecks
{
    public static IEnumerable<Finding> Of(EstateIndex index, Plan plan, CheckContext context)
    {
        foreach (var move in plan.Moves)
        foreach (var jump in move.Jumps)
        {
            if (
                index.Estate.Find(jump.Component) is not { } component
                || index.Catalogue.Find(jump.Product) is not { } product
                || product.Jumps.FirstOrDefault(j => j.Id == jump.Jump) is not { } its
            )
                continue;
            var values = new MemberValues(index, component, product, Given(plan, move, jump, product, context.Now))
            {
                Then = StateBefore(index, plan, move, jump),
            };
            foreach (var prerequisite in its.Prerequisites)
            {
                if (prerequisite.AtWave)
                {
                    yield return new Finding(
                        $"{its.Id} {prerequisite.Id}",
                        component.Id,
                        Enum.Parse<Level>(prerequisite.Level, ignoreCase: true),
                        CheckResult.NotApplicable,
                        $"asked at its turn, before each wave of move {move.Number}",
                        null,
                        [move.Number]
                    );
                    continue;
                }
                var asked = Asked(index, prerequisite, component).ToList();
                // Of very many that hold one line says as much, and those that do not stand out.
                if (
                    asked.Count > MostByName
                    && prerequisite.Per != "site"
                    && Holding(prerequisite, asked, values) is { Count: > MostByName } holding
                )
                {
                    yield return new Finding(
                        $"{its.Id} {prerequisite.Id}",
                        component.Id,
                        Enum.Parse<Level>(prerequisite.Level, ignoreCase: true),
                        CheckResult.Passed,
                        $"it holds for {holding.Count} of {asked.Count} {prerequisite.Per}s",
                        null,
                        [move.Number]
                    );
                    asked.RemoveAll(a => holding.Contains(a.Subject));
                }
                foreach (var each in asked)
                    yield return Put(index, plan, move, its, prerequisite, each, values);
            }
        }
    }

    /// <summary>What is known without asking anybody: the jump, the day, the window.</summary>
    internal static Func<Reference, Value?> Given(
        Plan plan,
        PlannedMove move,
        PlannedJump jump,
        Product product,
        DateTimeOffset now
    )
    {
        var window = plan.Windows.FirstOrDefault(w => w.FirstMove <= move.Number && move.Number <= w.LastMove);
        return reference =>
            reference.Key switch
            {
                "jump.to" => Label(product, jump.To),
                "jump.from" => Label(product, jump.From),
                "today" => Value.Of(DateOnly.FromDateTime(now.UtcDateTime)),
                "window.start" => window is null ? null : Value.Of(DateOnly.FromDateTime(window.From.DateTime)),
                "window.end" => window is null ? null : Value.Of(DateOnly.FromDateTime(window.To.DateTime)),
                "window.length" => window is null
                    ? null
                    : Value.Of((window.To - window.From).TotalSeconds, ValueKind.Time),
                _ => null,
            };
    }

    // The versions that the plan will have brought the estate to when a jump's turn comes, each with the move that
    // does.
    private static Dictionary<string, (string Label, int Move)> StateBefore(
        EstateIndex index,
        Plan plan,
        PlannedMove move,
        PlannedJump jump
    )
    {
        var then = new Dictionary<string, (string, int)>();
        foreach (var earlier in plan.Moves.Where(m => m.Number < move.Number))
        foreach (var taken in earlier.Jumps)
            then[taken.Component] = (taken.To, earlier.Number);
        // Several jumps of one component in one outage follow one another.
        foreach (var taken in move.Jumps.TakeWhile(j => j != jump).Where(j => j.Component == jump.Component))
            then[taken.Component] = (taken.To, move.Number);
        return then;
    }

    // Which readings are missing, and of whom; what members have by themselves is asked of none of them where a
    // prerequisite asks of several at once.
    private static string Missing(
        Prerequisite prerequisite,
        EstateIndex index,
        Member? one,
        ImmutableArray<Member> all,
        MemberValues values
    )
    {
        var said = new List<string>();
        foreach (var reference in prerequisite.Holds.References.Distinct())
        {
            if (reference.OfRelated is { } related)
            {
                said.AddRange(MissingOfRelated(reference, related.Product, values));
                continue;
            }
            if (values.Of(one)(reference) is not null)
                continue;
            var asked = one is null ? all : [one];
            var without = KnownReadings.IsGiven(reference)
                ? []
                : asked.Where(m => values.Of(m)(reference) is null).ToList();
            if (KnownReadings.IsGiven(reference))
                said.Add($"{reference.Key} is not known here");
            else if (without.Count == 0 && !prerequisite.Holds.AsksOfMore)
                said.Add(
                    $"{reference.Key} is a reading of each member, and is asked per {prerequisite.Per}: say per: member"
                );
            else if (without.Count > 0)
                said.Add(
                    $"there is no reading of {reference.Key} of "
                        + $"{string.Join(", ", without.Take(MostNamed).Select(m => m.Id))}"
                        + (without.Count > MostNamed ? $" and {without.Count - MostNamed} more" : "")
                        + Why(reference, without)
                );
        }
        return said.Count == 0 ? $"{prerequisite.Holds.Text} can't be answered" : string.Join("; ", said.Distinct());

        string Why(Reference reference, List<Member> without) =>
            without
                .Select(m => index.Readings.Of(m).Missed.GetValueOrDefault(reference.Key))
                .FirstOrDefault(w => w is not null)
                is { } why
                ? $" ({why})"
                : "";
    }

    private static IEnumerable<string> MissingOfRelated(Reference reference, string product, MemberValues values)
    {
        var members = values.RelatedMembers(product).ToList();
        if (members.Count == 0)
            yield return $"no component of {product} is related";
        var without = members
            .Where(m =>
                values.Of(null, new Dictionary<string, (Component, Member)> { [product] = m })(reference) is null
            )
            .Select(m => m.Member.Id)
            .ToList();
        if (without.Count > 0)
            yield return $"there is no reading of {reference.Field} of "
                + string.Join(", ", without.Take(MostNamed))
                + (without.Count > MostNamed ? $" and {without.Count - MostNamed} more" : "");
    }

    private const int MostNamed = 5;

    /// <summary>Up to so many that hold are told one by one.</summary>
    private const int MostByName = 30;

    private static HashSet<string> Holding(Prerequisite prerequisite, List<AskedOf> asked, MemberValues values)
    {
        if (prerequisite.Holds.OfRelated.Any())
            return
            [
                .. asked.Where(a => values.Judge(prerequisite.Holds, a.One, a.All).Came.Holds).Select(a => a.Subject),
            ];
        var members = prerequisite.Holds.AsksOfMore ? asked[0].All.Select(m => values.Of(m)).ToList() : [];
        return
        [
            .. asked.Where(a => Evaluator.Holds(prerequisite.Holds, values.Of(a.One), members)).Select(a => a.Subject),
        ];
    }

    private static Value? Label(Product product, string label) =>
        product.Scheme.TryParse(label) is { } version ? Value.Of(version) : null;

    /// <summary>Of whom a prerequisite is asked, and among whom: per member and node each by itself, in their numbers
    /// beside all of the component; per site those of one site.</summary>
    internal static IEnumerable<AskedOf> Asked(EstateIndex index, Prerequisite prerequisite, Component component) =>
        prerequisite.Per switch
        {
            "component" =>
            [
                new AskedOf(
                    component.Id,
                    null,
                    component.Members.Length == 1 ? component.Members[0] : null,
                    component.Members
                ),
            ],
            "site" => component
                .Members.GroupBy(m => index.Estate.Nodes[m.Node].Site)
                .Select(g => new AskedOf(
                    $"{component.Id} at {g.Key}",
                    null,
                    g.Count() == 1 ? g.First() : null,
                    [.. g]
                )),
            _ => component.Members.Select(m => new AskedOf(
                prerequisite.Per == "node" ? m.Node : m.Id,
                m.Node,
                m,
                component.Members
            )),
        };

    /// <summary>The answer to a prerequisite as a finding.</summary>
    internal static Finding Put(
        EstateIndex index,
        Plan plan,
        PlannedMove move,
        Jump jump,
        Prerequisite prerequisite,
        AskedOf asked,
        MemberValues values
    )
    {
        var (came, with) = values.Judge(prerequisite.Holds, asked.One, asked.All);
        var (noWindow, then) = (plan.Windows.IsEmpty, values.By(prerequisite.Holds));
        var level = Enum.Parse<Level>(prerequisite.Level, ignoreCase: true);
        // Asked of a window that the plan does not have.
        var applies = !(noWindow && came.Open && prerequisite.Holds.References.Any(r => r.Name == "window"));
        var result =
            !applies ? CheckResult.NotApplicable
            : came.Open ? CheckResult.Open
            : came.Holds ? CheckResult.Passed
            : CheckResult.Failed;
        var what = result switch
        {
            CheckResult.NotApplicable => "the plan has no window",
            CheckResult.Open => Missing(prerequisite, index, asked.One, asked.All, values),
            CheckResult.Passed => came.Readings.IsEmpty ? "it holds" : came.Explain,
            _ when came.Gap is { } gap => with is null ? gap.ToString() : $"{gap} ({with})",
            _ => $"{prerequisite.Holds.Text} does not hold: {came.Explain}",
        };
        return new Finding(
            $"{jump.Id} {prerequisite.Id}",
            asked.Subject,
            level,
            result,
            then is null ? what : $"{what}; {then}",
            result is CheckResult.Failed or CheckResult.Open
                ? prerequisite.Remedy ?? (result == CheckResult.Open ? "Take a survey." : null)
                : null,
            [move.Number]
        )
        {
            Node = asked.Node,
            Evidence = [.. came.Readings.Select(r => Named(r, with))],
            Found = result == CheckResult.Failed ? came.Gap?.Found : null,
            Needed = result == CheckResult.Failed ? came.Gap?.Needed : null,
            Short = result == CheckResult.Failed ? came.Gap?.Short?.ToString() : null,
            ShortBy = result == CheckResult.Failed ? came.Gap?.Short?.Number : null,
        };
    }

    // Whose reading it was, in place of what it is called in the document.
    private static Used Named(Used used, string? with) =>
        with is not null && Reference.OfKey(used.Reference).OfRelated is { } related
            ? used with
            {
                Reference = $"{related.Reading.Key} of {with}",
            }
            : used;
}

/// <summary>Of whom a prerequisite is asked.</summary>
/// <param name="Subject">What its finding names.</param>
/// <param name="Node">The node to look at; null where it is about several.</param>
/// <param name="One">The member whose readings answer; null where it is asked of several together.</param>
/// <param name="All">Those that <c>members</c> stands for.</param>
internal sealed record AskedOf(string Subject, string? Node, Member? One, ImmutableArray<Member> All);
