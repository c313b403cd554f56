using System.Collections.Immutable;
using TideStep.Core.Catalogue;
using TideStep.Core.Estates;
using TideStep.Core.Expressions;

namespace TideStep.Core.Checks;

/// <summary>A member's readings as the values that expressions ask for.</summary>
internal sealed class MemberValues(
    EstateIndex index,
    Component component,
    Product product,
    Func<Reference, Value?> given
)
{
    /// <summary>Versions that a plan will have brought components to, each with the move that does; they count before
    /// what was read.</summary>
    public IReadOnlyDictionary<string, (string Label, int Move)> Then { get; init; } =
        new Dictionary<string, (string, int)>();

    /// <summary>By which moves the versions that an expression asks for will be as they are taken to be; null where
    /// they are as read.</summary>
    public string? By(Expression expression)
    {
        var asked = expression
            .References.SelectMany(r =>
                r.Key is "running" or "installed" ? [component]
                : r.Name == "related" ? Of(r)
                : []
            )
            .Select(c => c.Id)
            .Distinct()
            .Where(Then.ContainsKey)
            .ToList();
        return asked.Count == 0
            ? null
            : string.Join(", ", asked.Select(c => $"{c} at {Then[c].Label} by move {Then[c].Move}"));
    }

    private IEnumerable<Component> Of(Reference related) =>
        index
            .RelatedTo(index.NumberOf(component.Id))
            .Select(c => index.Components[c])
            .Where(c => related.Arguments.Contains(c.Product));

    /// <summary>The readings of one member; without one, only what is given.</summary>
    /// <param name="related">Whose readings stand for those of related components, by product; those of nobody where
    /// there is none.</param>
    public Func<Reference, Value?> Of(
        Member? member,
        IReadOnlyDictionary<string, (Component Component, Member Member)>? related = null
    ) =>
        reference =>
            reference.OfRelated is { } asked
                ? related?.TryGetValue(asked.Product, out var other) == true
                    ? OfOther(other.Component, other.Member, asked.Reading)
                    : null
                : KnownReadings.IsGiven(reference)
                    ? reference.Name == "related"
                        ? Related(reference)
                        : given(reference)
                    : member is null
                        ? null
                        : Read(member, reference);

    /// <summary>An expression put to a member. One that asks readings of related members has to hold with each of them,
    /// of several products with each combination; the worst answer counts, and says whose it is.</summary>
    /// <param name="one">The member; null where it is asked of several together.</param>
    /// <param name="all">Those that <c>members</c> stands for.</param>
    public (Evaluation Came, string? With) Judge(Expression expression, Member? one, IReadOnlyList<Member> all)
    {
        // Of a member alone nobody else is asked: a component may have thousands.
        var among = expression.AsksOfMore ? all : [];
        List<Func<Reference, Value?>> looks = [.. among.Select(m => Of(m))];
        List<string> names = [.. among.Select(m => m.Id)];
        (Evaluation Came, string? With) worst = default;
        foreach (var related in Related(expression))
        {
            var came = Evaluator.Evaluate(expression, Of(one, related), looks, names);
            if (worst.Came is not null && Severity(came) <= Severity(worst.Came))
                continue;
            worst = (
                came,
                related.Count == 0 ? null : string.Join(", ", related.Values.Select(r => r.Member.Id).Order())
            );
            if (Severity(came) == 2)
                break;
        }
        return worst;

        static int Severity(Evaluation came) =>
            came.Holds ? 0
            : came.Open ? 1
            : 2;
    }

    // Each choice of one related member for each product that is asked; one empty choice where none is asked or none
    // is there.
    private IEnumerable<IReadOnlyDictionary<string, (Component Component, Member Member)>> Related(
        Expression expression
    )
    {
        IEnumerable<ImmutableDictionary<string, (Component, Member)>> choices =
        [
            ImmutableDictionary<string, (Component, Member)>.Empty,
        ];
        foreach (var product in expression.OfRelated.Select(r => r.Product).Distinct())
        {
            var members = RelatedMembers(product).ToList();
            if (members.Count > 0)
                choices = choices.SelectMany(_ => members, (chosen, m) => chosen.SetItem(product, m));
        }
        return choices;
    }

    /// <summary>The members of related components of a product.</summary>
    public IEnumerable<(Component Component, Member Member)> RelatedMembers(string product) =>
        index
            .RelatedTo(index.NumberOf(component.Id))
            .Select(c => index.Components[c])
            .Where(c => c.Product == product)
            .SelectMany(c => c.Members.Select(m => (c, m)));

    private readonly Dictionary<string, MemberValues> _others = [];

    private Value? OfOther(Component other, Member member, Reference reading)
    {
        if (index.Catalogue.Find(other.Product) is not { } its)
            return null;
        if (!_others.TryGetValue(other.Id, out var values))
            _others[other.Id] = values = new MemberValues(index, other, its, given) { Then = Then };
        return values.Of(member)(reading);
    }

    private Value? Read(Member member, Reference reference)
    {
        if (!index.Readings.Members.TryGetValue(member.Id, out var reading))
            return null;
        Value? Label(string? text) =>
            text is not null && product.Scheme.TryParse(text) is { } version ? Value.Of(version) : null;
        switch (reference.Key)
        {
            case "running":
                return Label(Then.TryGetValue(component.Id, out var comes) ? comes.Label : reading.Running);
            case "installed":
                return Label(Then.TryGetValue(component.Id, out var due) ? due.Label : reading.Installed);
            case "staged":
                return Label(reading.Staged);
            case "role":
                return index.RoleOf(member) is { } role ? Value.Of(role) : null;
            case "in-service":
                return Value.Of(!index.IsOut(member));
            case "reachable":
                return Value.True;
        }
        if (!reading.Values.TryGetValue(reference.Key, out var text))
            return null;
        // The same text means the same of every member.
        if (_read.TryGetValue((reference.Key, text), out var known))
            return known;
        return _read[(reference.Key, text)] = KnownReadings.KindOf(reference, product.Readings) is { } kind
            ? Value.Read(text, kind, product.Scheme)
            : null;
    }

    private readonly Dictionary<(string, string), Value?> _read = [];

    // The lowest version that runs of a related component of that product.
    private Value? Related(Reference reference)
    {
        var versions = Of(reference)
            .SelectMany(c =>
                c.Members.Select(m => (c, Label: Then.GetValueOrDefault(c.Id).Label ?? index.Readings.Of(m).Running))
            )
            .Select(r => r.Label is { } label ? index.Catalogue.Find(r.c.Product)?.Scheme.TryParse(label) : null)
            .ToList();
        return versions.Count > 0 && versions.All(v => v is not null) ? Value.Of(versions.Min()!) : null;
    }
}
