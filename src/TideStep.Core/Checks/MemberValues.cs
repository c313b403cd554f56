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
    public Func<Reference, Value?> Of(Member? member) =>
        reference =>
            KnownReadings.IsGiven(reference)
                ? reference.Name == "related"
                    ? Related(reference)
                    : given(reference)
                : member is null
                    ? null
                    : Read(member, reference);

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
