using System.Collections.Immutable;
using System.Globalization;
using System.Security.Cryptography.X509Certificates;
using System.Text;
using TideStep.Core.Catalogue;
using TideStep.Core.Estates;
using TideStep.Core.Expressions;

namespace TideStep.Connectors.Ssh;

/// <summary>What a host is asked for a reading: the kind of question that <c>read.sh</c> knows, its arguments, and how
/// its answer is understood.</summary>
internal sealed record HostQuestion(
    Reference Reference,
    string Kind,
    ImmutableArray<string> Arguments,
    Collector? Collector
)
{
    /// <summary>The question of a product's own collector; null where it is of another kind.</summary>
    public static HostQuestion? Of(Reference reference, Collector collector, EstateNode node, Member member)
    {
        string Bound(string text) =>
            text.Replace("{member.node}", member.Node)
                .Replace("{member.component}", member.Component)
                .Replace("{node.address}", node.Reach["address"]);
        return collector.By switch
        {
            "command" => new HostQuestion(reference, "command", [.. collector.Command.Select(Bound)], collector),
            "file" => new HostQuestion(reference, "file", [Bound(collector.Path!)], collector),
            _ => null,
        };
    }

    /// <summary>The question of a reading that every Linux host can tell; null where there is none.</summary>
    public static HostQuestion? Of(Reference reference)
    {
        if (reference.Arguments.IsDefaultOrEmpty)
            return KnownReadings.OfHost.Contains(reference.Key)
                ? new HostQuestion(reference, reference.Key == "clock.off" ? "clock" : reference.Key, [], null)
                : null;
        if (reference is { Name: "certificate", Field: "until" })
            return new HostQuestion(reference, "file", reference.Arguments, null);
        return
            KnownReadings.KindOf(reference, ImmutableDictionary<string, Collector>.Empty) is null
            || KnownReadings.IsGiven(reference)
            ? null
            : new HostQuestion(
                reference,
                reference.Field is { } field ? $"{reference.Name}.{field}" : reference.Name,
                reference.Arguments,
                null
            );
    }

    /// <summary>The line of shell that asks it.</summary>
    public string Line => $"q {Kind} {Shell.Join(Arguments)}".TrimEnd();

    /// <summary>The value of an answer, or why it is none.</summary>
    /// <param name="status">What the question ended with: 124 where its time ran out.</param>
    /// <param name="now">The moment of the answer by our own clock.</param>
    /// <param name="limit">How long it had.</param>
    public (Value? Value, string? Why) Understand(
        int status,
        string answer,
        string why,
        Product product,
        DateTimeOffset now,
        TimeSpan limit
    )
    {
        if (status is 124 or 137)
            return (null, $"no answer within {limit.TotalSeconds:0} s");
        // A command of a product's own tells by what it prints; what it ends with is told where it prints nothing.
        if (status != 0 && (Collector is not { By: "command" } || answer.Trim().Length == 0))
            return (
                null,
                why.Trim() is { Length: > 0 } said
                    ? CollectorText.Shown(said)
                    : $"{(Collector is null ? Reference.Key : Collector.Source)} ended with status {status}"
            );
        if (Collector is { } collector)
            return CollectorText.Read(collector, answer, product.Scheme);
        if (Kind == "clock")
            return double.TryParse(answer.Trim(), CultureInfo.InvariantCulture, out var theirs)
                ? (Value.Of(Math.Round(theirs - now.ToUnixTimeMilliseconds() / 1000.0, 1), ValueKind.Time), null)
                : (null, "its clock says nothing");
        if (Reference is { Name: "certificate" })
            return CertificateEnd(answer);
        var kind = KnownReadings.KindOf(Reference, product.Readings)!.Value;
        var text = answer.Trim();
        if (text.Length == 0)
            return kind == ValueKind.Text ? (Value.Of(""), null) : (null, "nothing was answered");
        // Packages are versions of the product; the system has an order of its own.
        var scheme = Reference.Name == "package" ? product.Scheme : Core.Versions.VersionScheme.Dotted;
        return Value.Read(text, kind, scheme) is { } value
            ? (value, null)
            : (null, $"'{CollectorText.Shown(text)}' is no {CollectorText.Word(kind)}");
    }

    // The last day of the first certificate of a PEM file.
    private static (Value?, string?) CertificateEnd(string text)
    {
        try
        {
            using var certificate = X509Certificate2.CreateFromPem(text);
            return (Value.Of(DateOnly.FromDateTime(certificate.NotAfter.ToUniversalTime())), null);
        }
        catch (System.Security.Cryptography.CryptographicException)
        {
            return (null, "it holds no certificate");
        }
    }
}
