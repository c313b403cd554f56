using System.Globalization;

namespace TideStep;

/// <summary>The machine's clock moved by a fixed span, for the demo, the tests and pictures: all programs that are
/// started with the same span agree on one day. Timers and measured spans are the machine's.</summary>
/// <param name="ahead">How far it is ahead of the machine's clock; negative for behind.</param>
internal sealed class ShiftedClock(TimeSpan ahead) : TimeProvider
{
    /// <summary>The environment's variable: whole seconds ahead of the machine's clock.</summary>
    public const string Variable = "TIDESTEP_CLOCK_AHEAD";

    /// <summary>The clock of this process: the machine's where the environment says nothing.</summary>
    /// <exception cref="FormatException">The variable is no whole number of seconds.</exception>
    public static TimeProvider OfProcess { get; } = From(Environment.GetEnvironmentVariable(Variable));

    private static TimeProvider From(string? seconds) =>
        string.IsNullOrEmpty(seconds)
            ? System
            : new ShiftedClock(
                TimeSpan.FromSeconds(
                    long.TryParse(seconds, NumberStyles.AllowLeadingSign, CultureInfo.InvariantCulture, out var read)
                        ? read
                        : throw new FormatException($"{Variable} must be a whole number of seconds, not '{seconds}'")
                )
            );

    public override DateTimeOffset GetUtcNow() => base.GetUtcNow() + ahead;
}
