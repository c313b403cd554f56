using TideStep.Connectors;
using TideStep.Core.Plans;
using TideStep.Core.Runs;
using TideStep.Engine.Runs;

namespace TideStep.Engine.Steps;

/// <summary>Takes what secrets hold out of what steps print: of all that the run uses, and of those its nodes are
/// reached with, for a far side may print what it was given before.</summary>
internal sealed class HiddenSecrets(RunContext context, RunLog log)
{
    private const string Reference = "secret:";
    private IReadOnlyCollection<string>? _names;

    /// <summary>A step's output without them. Where a secret of its own is not there any more, nobody could say what in
    /// the output is it: then all of it is withheld.</summary>
    public string In(PlanStep step, string output)
    {
        if (output.Length == 0)
            return output;
        try
        {
            if (RunBinding.SecretsOf(step) is { Count: > 0 } own)
                output = context.Mask(own, output);
        }
        catch (ConnectorException e)
        {
            return $"(withheld: {e.Problem.What})";
        }
        foreach (var name in _names ??= NamesOf(log.Look(s => s.Plan)))
            try
            {
                output = context.Mask([name], output);
            }
            catch (ConnectorException)
            { /* it is not there, and so was given to nobody */
            }
        return output;
    }

    private List<string> NamesOf(Plan plan) =>
        [
            .. plan
                .Blocks.SelectMany(b => b.Lanes)
                .SelectMany(l => l.Steps)
                .SelectMany(RunBinding.SecretsOf)
                .Concat(
                    context
                        .Estate.Nodes.Values.SelectMany(n => n.Reach.Settings.Values)
                        .Where(v => v.StartsWith(Reference, StringComparison.Ordinal))
                        .Select(v => v[Reference.Length..])
                )
                .Distinct(),
        ];
}
