using TideStep.Core.Expressions;
using TideStep.Core.Versions;

namespace TideStep.Core.Tests;

public sealed class ExpressionTests
{
    private static Evaluation Eval(string text, params (string Key, Value Value)[] readings)
    {
        var expression = ExpressionParser.TryParse(text, out var reason, out var offset)
            ?? throw new InvalidOperationException($"{reason} at {offset}: {text}");
        return Evaluator.Evaluate(expression, r => readings.FirstOrDefault(x => x.Key == r.Key).Value);
    }

    [Theory]
    [InlineData("running = \"3.2\" and (state = \"in step\")", true)]
    [InlineData("(state = \"in step\") and running in \">=3 <4\"", true)]
    [InlineData("not (lag > 1 MiB) and lag <= 5 * 100 KiB", true)]
    [InlineData("not state = \"stopped\"", true)]
    [InlineData("free(\"/data\") >= 2.5 * lag", true)]
    [InlineData("free(\"/data\") - lag < 1 GiB", false)]
    [InlineData("share >= 50 % and 1 h = 60 min", true)]
    [InlineData("lag < 1 MiB or missing", true)]
    [InlineData("running < \"3.10\"", true)]
    public void Expressions_mean_what_they_say(string text, bool holds) =>
        Assert.Equal(
            holds,
            Eval(
                text,
                ("running", Value.Of(VersionScheme.Dotted.TryParse("3.2")!)),
                ("state", Value.Of("in step")),
                ("lag", Value.Of(300 * 1024, ValueKind.Bytes)),
                ("free(\"/data\")", Value.Of(96.0 * 1024 * 1024 * 1024, ValueKind.Bytes)),
                ("share", Value.Of(0.6, ValueKind.Share))
            ).Holds
        );

    [Fact]
    public void A_missing_reading_leaves_the_result_open_and_is_named()
    {
        var result = Eval("lag <= 1 MiB and state = \"in step\"", ("state", Value.Of("in step")));
        Assert.True(result.Open);
        Assert.False(result.Holds);
        Assert.Equal("lag = no reading, state = in step", result.Explain);
    }

    [Fact]
    public void A_false_part_decides_even_where_another_is_missing() =>
        Assert.False(Eval("lag <= 1 MiB and state = \"x\"", ("state", Value.Of("y"))).Open);
}
