using TideStep.Core.Documents;
using TideStep.Core.Estates;

namespace TideStep.Engine.Surveys;

/// <summary>What a survey is of: everything, or only what is named. More than one narrows it further.</summary>
public sealed record SurveyScope(
    string? Platform = null,
    string? Component = null,
    string? Node = null,
    string? Site = null
)
{
    public static readonly SurveyScope Everything = new();

    /// <summary>Several nodes by name, where more than one is meant.</summary>
    public IReadOnlySet<string>? Nodes { get; init; }

    public bool IsAll => this == Everything;

    /// <summary>In words, for lists.</summary>
    public string Words =>
        IsAll
            ? "everything"
            : string.Join(
                ", ",
                new[]
                {
                    Platform is null ? null : $"platform {Platform}",
                    Component is null ? null : $"component {Component}",
                    Node is null ? null : $"node {Node}",
                    Site is null ? null : $"site {Site}",
                    Nodes is null ? null : $"{Nodes.Count} nodes",
                }.OfType<string>()
            );

    /// <summary>Whether a member is in it.</summary>
    public bool Holds(Estate estate, Member member) =>
        (Platform is null || estate.Find(member.Component)?.Platform == Platform)
        && (Component is null || member.Component == Component)
        && (Node is null || member.Node == Node)
        && (Site is null || estate.Nodes[member.Node].Site == Site)
        && Nodes?.Contains(member.Node) != false;

    /// <summary>What it names that the estate does not have.</summary>
    public Problem? Wrong(Estate estate)
    {
        Problem? Named(string what, string? given, IEnumerable<string> known) =>
            given is null || known.Contains(given)
                ? null
                : new Problem($"there is no {what} '{given}'", null, Nearest.Hint(given, known));
        return Named("platform", Platform, estate.Components.Select(c => c.Platform).OfType<string>().Distinct())
            ?? Named("component", Component, estate.Components.Select(c => c.Id))
            ?? Named("node", Node, estate.Nodes.Keys)
            ?? Named("site", Site, estate.Sites.Keys);
    }
}

/// <summary>How far a survey has come.</summary>
public sealed record SurveyProgress(string Of, int Read, int All, DateTimeOffset Begun);
