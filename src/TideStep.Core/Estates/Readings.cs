using System.Collections.Immutable;
using System.Globalization;
using TideStep.Core.Catalogue;
using TideStep.Core.Documents;

namespace TideStep.Core.Estates;

/// <summary>What a survey found of one member; labels as read, null where nothing was read.</summary>
public sealed record MemberReading(
    string? Running,
    string? Installed,
    string? Staged,
    string? Role,
    bool InService,
    ImmutableDictionary<string, string> Values
)
{
    public static readonly MemberReading None = new(
        null,
        null,
        null,
        null,
        false,
        ImmutableDictionary<string, string>.Empty
    );

    /// <summary>When it was read, where that was not with the others; null for the survey's own time.</summary>
    public DateTimeOffset? At { get; init; }

    /// <summary>Whether it was found that nothing runs, which is not the same as what runs being unknown.</summary>
    public bool RunsNothing { get; init; }

    /// <summary>Readings that could not be taken, with why.</summary>
    public ImmutableDictionary<string, string> Missed { get; init; } = ImmutableDictionary<string, string>.Empty;
}

/// <summary>A member that a survey could not read: why, and what was read of it last and when. That is told as such and
/// never taken for current.</summary>
public sealed record LostReading(string Why, MemberReading? Last, DateTimeOffset? At);

/// <summary>The readings of a survey: per member, dated.</summary>
public sealed record Readings(DateTimeOffset Taken, ImmutableDictionary<string, MemberReading> Members)
{
    /// <summary>Those of nobody.</summary>
    public static readonly Readings None = new(
        DateTimeOffset.UnixEpoch,
        ImmutableDictionary<string, MemberReading>.Empty
    );

    /// <summary>Members that could not be read.</summary>
    public ImmutableDictionary<string, LostReading> Lost { get; init; } =
        ImmutableDictionary<string, LostReading>.Empty;

    public MemberReading Of(Member member) => Members.GetValueOrDefault(member.Id, MemberReading.None);

    /// <summary>When a member was read.</summary>
    public DateTimeOffset TakenOf(string member) =>
        Members.TryGetValue(member, out var reading) && reading.At is { } at ? at : Taken;
}

/// <summary>Reads a <c>readings/1</c> document: versions and values per member; <c>components</c> speaks for all
/// members of one.</summary>
public static class ReadingsDocument
{
    public const string Kind = "readings/1";

    public static Checked<Readings> Read(string text, string file, Estate estate)
    {
        var node = DocumentReader.Read(text, file);
        if (node.Value is null || !node.Problems.IsEmpty)
            return new Checked<Readings>(null, node.Problems);
        var findings = new Findings();
        var form = Form.Open(node.Value, "the document", findings);
        DocumentKinds.Expect(form, Kind);
        var taken = DateTimeOffset.UnixEpoch;
        var written = form.Required("taken");
        if (
            written.Length > 0
            && !DateTimeOffset.TryParse(
                written,
                CultureInfo.InvariantCulture,
                DateTimeStyles.AssumeUniversal,
                out taken
            )
        )
            findings.Add($"'taken' must be a time like 2026-11-20T10:00:00Z, not '{written}'", form.PlaceOf("taken"));
        var members = ImmutableDictionary.CreateBuilder<string, MemberReading>();
        foreach (var (id, value, at) in form.Map("components"))
        {
            var reading = ReadOne(value, $"component {id}", findings);
            if (estate.Find(id) is not { } component)
                findings.Add(
                    $"there is no component '{id}'",
                    at,
                    Nearest.Hint(id, estate.Components.Select(c => c.Id))
                );
            else
                foreach (var member in component.Members)
                    members[member.Id] = reading;
        }
        foreach (var (id, value, at) in form.Map("members"))
        {
            if (estate.FindMember(id) is null)
                findings.Add(
                    $"there is no member '{id}'",
                    at,
                    Nearest.Hint(id, estate.Components.SelectMany(c => c.Members).Select(m => m.Id))
                );
            members[id] = ReadOne(value, $"member {id}", findings, members.GetValueOrDefault(id));
        }
        var lost = ImmutableDictionary.CreateBuilder<string, LostReading>();
        foreach (var (id, value, at) in form.Map("unreached"))
        {
            if (estate.FindMember(id) is null)
                findings.Add(
                    $"there is no member '{id}'",
                    at,
                    Nearest.Hint(id, estate.Components.SelectMany(c => c.Members).Select(m => m.Id))
                );
            if (members.ContainsKey(id))
                findings.Add(
                    $"member {id} was read and could not be read",
                    at,
                    "Name it under 'members' or under 'unreached'."
                );
            var its = Form.Open(value, $"member {id}, unreached", findings);
            var why = its.Required("why");
            DateTimeOffset? since =
                its.Text("known") is { } known
                && DateTimeOffset.TryParse(
                    known,
                    CultureInfo.InvariantCulture,
                    DateTimeStyles.AssumeUniversal,
                    out var read
                )
                    ? read
                    : null;
            lost[id] = new LostReading(
                why,
                its.Node("last") is { } last ? ReadOne(last, $"member {id}, last", findings) : null,
                since
            );
            its.Close();
        }
        form.Close();
        return new Checked<Readings>(
            findings.Any ? null : new Readings(taken, members.ToImmutable()) { Lost = lost.ToImmutable() },
            findings.All
        );
    }

    private static MemberReading ReadOne(Node node, string what, Findings findings, MemberReading? otherwise = null)
    {
        var form = Form.OpenOrWord(node, "running", what, findings);
        var running = form.Text("running");
        running ??= form.Has("running") ? null : otherwise?.Running;
        var known = running is not null and not RunningText.Nothing and not "unknown";
        var values = form.Map("values")
            .ToImmutableDictionary(v => v.Key, v => v.Value is TextNode text ? text.Text : "");
        var reading = new MemberReading(
            known ? running : null,
            form.Text("installed")
                ?? (form.Has("running") && known ? running : otherwise?.Installed ?? (known ? running : null)),
            form.Text("staged") ?? otherwise?.Staged,
            form.Text("role") ?? otherwise?.Role,
            form.Flag("in-service", known),
            values.IsEmpty && otherwise is not null ? otherwise.Values : values
        )
        {
            At =
                form.Text("at") is { } at
                && DateTimeOffset.TryParse(
                    at,
                    CultureInfo.InvariantCulture,
                    DateTimeStyles.AssumeUniversal,
                    out var read
                )
                    ? read
                    : null,
            RunsNothing = running == RunningText.Nothing,
            Missed = form.Map("missed").ToImmutableDictionary(m => m.Key, m => m.Value is TextNode why ? why.Text : ""),
        };
        form.Close();
        return reading;
    }
}
