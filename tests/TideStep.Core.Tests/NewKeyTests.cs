using TideStep.Core.Catalogue;
using TideStep.Core.Estates;

namespace TideStep.Core.Tests;

/// <summary>Keys of documents that are written wrongly: a clear error at the place, and nothing is taken.</summary>
public sealed class NewKeyTests
{
    private const string Head =
        "tidestep: product/1\nproduct: engine\nreleases: {\"1\": {}, \"2\": {}}\nsteps:\n  put: {do: "
        + "{command: [put]}}\n"
        + "  save: {do: {capture: save}}\njumps:\n  up:\n    from: \"=1\"\n    to: \"2\"\n"
        + "    methods: {offline: {outage: 1 min}}\n    change: [put]\n    ";

    [Theory]
    [InlineData("points: [{capture: save, of: {}}]", "'of'")]
    [InlineData("points: [{capture: put}]", "step 'put' captures nothing")]
    [InlineData("points: [{capture: saev}]", "there is no step 'saev'")]
    [InlineData("points: [{capture: save, per: node}]", "no valid per")]
    [InlineData("points: [{capture: save, while: sleeping}]", "no valid while")]
    [InlineData("points: [{of: store}]", "'capture' is missing")]
    [InlineData("prerequisites: [{id: fit, holds: 'running = \"1\"', when: later}]", "no valid when")]
    [InlineData("prerequisites: [{id: fit, holds: 'running = \"1\"', at: wave}]", "'at'")]
    [InlineData("converts-back: perhaps", "'converts-back'")]
    [InlineData("loses: {what: much}", "loses")]
    [InlineData("tasks: [{title: ring, when: during}]", "no valid when")]
    [InlineData("tasks: [{when: inside}]", "'title' is missing")]
    public void A_jump_that_is_written_wrongly_is_told_at_its_place(string key, string what)
    {
        var read = ProductDocument.Read(Head + key + "\n", "p.yaml");
        Assert.Contains(read.Problems, p =>
            p.What.Contains(what, StringComparison.Ordinal) && p.At is { File: "p.yaml", Line: 13 }
        );
    }

    [Theory]
    [InlineData("look: {do: {person: }}", "person")]
    [InlineData("look: {do: {command: [x]}, owner: desk}", "'owner'")]
    [InlineData("look: {do: {person: Look.}, must: perhaps}", "'must'")]
    [InlineData("look: {do: {person: Look.}, only-if: {a: b}}", "only-if")]
    [InlineData("look: {do: {person: Look.}, undo: {person: Close.}, lasts: ever}", "no valid lasts")]
    public void A_persons_step_that_is_written_wrongly_is_told_at_its_place(string step, string what) =>
        Assert.Contains(
            ProductDocument.Read($"tidestep: product/1\nproduct: engine\nsteps:\n  {step}\n", "p.yaml").Problems,
            p => p.What.Contains(what, StringComparison.Ordinal) && p.At is { File: "p.yaml", Line: 4 }
        );

    [Theory]
    [InlineData("retired: sold", "no valid retired")]
    [InlineData("retired: [free]", "retired")]
    [InlineData("runs-with: nobody", "no valid runs-with")]
    public void A_component_that_is_written_wrongly_is_told_at_its_place(string key, string what) =>
        Assert.Contains(
            EstateDocument
                .Read(
                    "tidestep: estate/1\nestate: x\nsites: {s: {}}\nnodes: {n1: {site: s}}\ncomponents:\n  app:\n"
                        + $"    product: engine\n    members: [n1]\n    {key}\n",
                    "e.yaml"
                )
                .Problems,
            p => p.What.Contains(what, StringComparison.Ordinal) && p.At is { File: "e.yaml", Line: 9 }
        );
}
