using System.Collections.Immutable;
using System.Globalization;
using TideStep.Core.Catalogue;
using TideStep.Core.Documents;

namespace TideStep.Core.Estates;

/// <summary>What a survey found of one member; labels as read, null where nothing was read.</summary>
public sealed record MemberReading(string? Running, string? Installed, string? Staged, string? Role, bool InService, ImmutableDictionary<string, string> Values)
{
    public static readonly MemberReading None = new(null, null, null, null, false, ImmutableDictionary<string, string>.Empty);
}

/// <summary>The readings of a survey: per member, dated.</summary>
public sealed record Readings(DateTimeOffset Taken, ImmutableDictionary<string, MemberReading> Members)
{
    public MemberReading Of(Member member) => Members.GetValueOrDefault(member.Id, MemberReading.None);
}

/// <summary>Reads a <c>readings/1</c> document: versions and values per member; <c>components</c> speaks for all members of one.</summary>
public static class ReadingsDocument
{
    public const string Kind = "readings/1";

    public static Checked<Readings> Read(string text, string file, Estate estate)
    {
        var node = DocumentReader.Read(text, file);
        if (node.Value is null || !node.Problems.IsEmpty) return new Checked<Readings>(null, node.Problems);
        var findings = new Findings();
        var form = Form.Open(node.Value, "the document", findings);
        DocumentKinds.Expect(form, Kind);
        var taken = DateTimeOffset.UnixEpoch;
        var written = form.Required("taken");
        if (written.Length > 0 && !DateTimeOffset.TryParse(written, CultureInfo.InvariantCulture, DateTimeStyles.AssumeUniversal, out taken))
            findings.Add($"'taken' must be a time like 2026-11-20T10:00:00Z, not '{written}'", form.PlaceOf("taken"));
        var members = ImmutableDictionary.CreateBuilder<string, MemberReading>();
        foreach (var (id, value, at) in form.Map("components"))
        {
            var reading = ReadOne(value, $"component {id}", findings);
            if (estate.Find(id) is not { } component) findings.Add($"there is no component '{id}'", at, Nearest.Hint(id, estate.Components.Select(c => c.Id)));
            else foreach (var member in component.Members) members[member.Id] = reading;
        }
        foreach (var (id, value, at) in form.Map("members"))
        {
            if (estate.FindMember(id) is null) findings.Add($"there is no member '{id}'", at, Nearest.Hint(id, estate.Components.SelectMany(c => c.Members).Select(m => m.Id)));
            members[id] = ReadOne(value, $"member {id}", findings, members.GetValueOrDefault(id));
        }
        form.Close();
        return new Checked<Readings>(findings.Any ? null : new Readings(taken, members.ToImmutable()), findings.All);
    }

    private static MemberReading ReadOne(Node node, string what, Findings findings, MemberReading? otherwise = null)
    {
        var form = Form.OpenOrWord(node, "running", what, findings);
        var running = form.Text("running");
        running ??= form.Has("running") ? null : otherwise?.Running;
        var known = running is not null and not "none" and not "unknown";
        var values = form.Map("values").ToImmutableDictionary(v => v.Key, v => v.Value is TextNode text ? text.Text : "");
        var reading = new MemberReading(known ? running : null, form.Text("installed") ?? (form.Has("running") && known ? running : otherwise?.Installed ?? (known ? running : null)), form.Text("staged") ?? otherwise?.Staged, form.Text("role") ?? otherwise?.Role,
            form.Flag("in-service", known), values.IsEmpty && otherwise is not null ? otherwise.Values : values);
        form.Close();
        return reading;
    }
}
