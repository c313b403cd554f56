using System.Collections.Immutable;
using TideStep.Core.Catalogue;
using TideStep.Core.Estates;
using TideStep.Core.Expressions;

namespace TideStep.Engine.Surveys;

/// <summary>One reading of a member: its value as text, what it measures, where it comes from; <paramref
/// name="Missed"/> tells why it could not be taken.</summary>
public sealed record ReadingLine(string Name, string? Value, string Kind, string Source, string? Missed);

/// <summary>A reading as it was at an earlier survey.</summary>
public sealed record ReadingThen(DateTimeOffset At, string? Value, string? Missed);

/// <summary>All that is known of a member.</summary>
/// <param name="At">When it was read; null where it never was.</param>
/// <param name="Lost">Why the last survey could not read it; what follows is then what was read before, and not
/// current.</param>
public sealed record MemberView(
    string Member,
    string Node,
    string Site,
    string Product,
    DateTimeOffset? At,
    string? Lost,
    ImmutableArray<ReadingLine> Readings
)
{
    /// <summary>From the readings as they are kept.</summary>
    public static MemberView Of(Estate estate, ProductCatalogue catalogue, Member member, Readings readings)
    {
        var component = estate.Find(member.Component)!;
        var product = catalogue.Find(component.Product);
        var lost = readings.Lost.GetValueOrDefault(member.Id);
        var reading = readings.Members.GetValueOrDefault(member.Id) ?? lost?.Last;
        DateTimeOffset? at = readings.Members.ContainsKey(member.Id) ? readings.TakenOf(member.Id) : lost?.At;
        var lines = ImmutableArray.CreateBuilder<ReadingLine>();
        if (reading is not null)
        {
            foreach (var name in (string[])["running", "installed", "staged", "role"])
                if (ValueOf(reading, name) is { } value)
                    lines.Add(
                        new ReadingLine(name, value, name == "role" ? "text" : "version", SourceOf(product, name), null)
                    );
            lines.Add(
                new ReadingLine(
                    "in-service",
                    reading.InService ? "true" : "false",
                    "flag",
                    product?.Routines.InStep?.Text ?? "something runs",
                    null
                )
            );
            foreach (var (name, value) in reading.Values.OrderBy(v => v.Key, StringComparer.Ordinal))
                lines.Add(new ReadingLine(name, value, KindOf(product, name), SourceOf(product, name), null));
            foreach (var (name, why) in reading.Missed.OrderBy(v => v.Key, StringComparer.Ordinal))
                lines.Add(new ReadingLine(name, null, KindOf(product, name), SourceOf(product, name), why));
        }
        return new MemberView(
            member.Id,
            member.Node,
            estate.Nodes[member.Node].Site,
            component.Product,
            at,
            lost?.Why,
            lines.ToImmutable()
        );
    }

    /// <summary>A reading's text by its name.</summary>
    public static string? ValueOf(MemberReading reading, string name) =>
        name switch
        {
            "running" => reading.Running,
            "installed" => reading.Installed,
            "staged" => reading.Staged,
            "role" => reading.Role,
            "in-service" => reading.InService ? "true" : "false",
            _ => reading.Values.GetValueOrDefault(name),
        };

    private static string KindOf(Product? product, string name) =>
        (
            product?.Readings.GetValueOrDefault(name)?.Kind
            ?? KnownReadings.KindOf(Reference.OfKey(name), ImmutableDictionary<string, Collector>.Empty)
            ?? ValueKind.Text
        )
            .ToString()
            .ToLowerInvariant();

    private static string SourceOf(Product? product, string name) =>
        product?.Readings.GetValueOrDefault(name)?.Source ?? "the host";
}
