using System.Collections.Immutable;
using TideStep.Core.Catalogue;

namespace TideStep.Core.Paths;

/// <summary>A wave as programs read it: members as <c>component/node</c>.</summary>
public sealed record WaveView(
    string? Role,
    string? Domain,
    bool Canary,
    ImmutableArray<string> Members,
    ImmutableArray<string> AlsoOut,
    ImmutableArray<string> ComponentsOut
);

/// <summary>One jump of a move.</summary>
public sealed record JumpView(string Component, string Jump, string From, string To, string Method);

/// <summary>A move as programs read it; minutes are decimal.</summary>
/// <param name="Pairs">The pairs of what it changed, as they stand after it.</param>
/// <param name="Guards">The proof of its waves: for each wave and component that loses members, the numbers of its
/// guards.</param>
/// <param name="WhyOut">Why nothing stands in which everybody goes on serving; null where nobody is out.</param>
/// <param name="MixedMinutes">How long its component serves in both versions at once.</param>
public sealed record MoveView(
    string Written,
    ImmutableArray<JumpView> Jumps,
    double Minutes,
    double OutageMinutes,
    ImmutableArray<string> Out,
    ImmutableArray<WaveView> Waves,
    int WavesAtLeast,
    ImmutableArray<TransitionalPair> Transitional,
    ImmutableArray<StandingPair> Pairs,
    double MixedMinutes,
    ImmutableArray<Waves.GuardLine> Guards,
    string? WhyOut
);

/// <summary>A component and a version.</summary>
public sealed record PlaceView(string Component, string Version);

/// <summary>A path that another order of the criteria would choose: its moves as written, and what it does otherwise
/// than the best.</summary>
public sealed record AlternativeView(
    string First,
    ImmutableArray<string> Moves,
    double Minutes,
    double OutageMinutes,
    ImmutableArray<string> Differences
);

/// <summary>An answer of planning as programs read it: the stable shape of <c>path/1</c>.</summary>
public sealed record PathView(
    string Tidestep,
    bool Found,
    bool AlreadyMet,
    bool Proved,
    DateOnly Day,
    ImmutableArray<MoveView> Moves,
    ImmutableArray<CriterionValue> Criteria,
    ImmutableArray<Reason> Reasons,
    ImmutableArray<PlaceView> Nearest,
    ImmutableArray<string> Notes,
    ImmutableArray<AlternativeView> Alternatives,
    ImmutableArray<Driven> Driven,
    ImmutableArray<NotedPair> Pairs,
    ImmutableArray<UnrelatedRequirement> Unrelated
)
{
    public static PathView Of(PathAnswer answer) =>
        new(
            "path/1",
            answer.Found,
            answer.AlreadyMet,
            answer.Proved,
            answer.Day,
            [.. answer.Moves.Select(View)],
            answer.Criteria,
            answer.Reasons,
            [.. answer.Nearest.Select(n => new PlaceView(n.Component, n.Version))],
            answer.Notes,
            [
                .. answer.Alternatives.Select(a => new AlternativeView(
                    a.First,
                    [.. a.Moves.Select(m => m.Written)],
                    a.Moves.Sum(m => m.Takes.TotalMinutes),
                    a.Moves.Sum(m => m.OutageTime.TotalMinutes),
                    a.Differences
                )),
            ],
            answer.Driven,
            answer.Pairs,
            answer.Unrelated
        );

    private static MoveView View(Move move) =>
        new(
            move.Written,
            [
                .. move.Jumps.Select(j => new JumpView(
                    j.Component,
                    j.Jump.Id,
                    j.From.Label,
                    j.To.Label,
                    j.Method.Word()
                )),
            ],
            move.Takes.TotalMinutes,
            move.OutageTime.TotalMinutes,
            move.Out,
            move.Waves is null
                ? []
                :
                [
                    .. move.Waves.Waves.Select(w => new WaveView(
                        w.Role,
                        w.Domain,
                        w.Canary,
                        [.. w.Members.Select(m => m.Id)],
                        [.. w.AlsoOut.Select(m => m.Id)],
                        w.ComponentsOut
                    )),
                ],
            move.Waves?.LowerBound ?? 0,
            move.Transitional,
            move.Pairs,
            move.IsJoint || move.Method is Method.Offline or Method.SideBySide ? 0 : move.Takes.TotalMinutes,
            move.Proof?.Lines ?? [],
            move.WhyOut
        );
}
