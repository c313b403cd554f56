using System.Globalization;

namespace TideStep;

/// <summary>The machine's clock moved by a fixed span, and where it is asked for a faster one, for the demo, the tests
/// and pictures: all programs that are started with the same words agree on one moment. Timers and spans that are
/// measured by it go with it; what does not ask it keeps the machine's time.</summary>
internal sealed class ShiftedClock : TimeProvider
{
    /// <summary>The environment's variable: whole seconds ahead of the machine's clock; negative for behind.</summary>
    public const string Variable = "TIDESTEP_CLOCK_AHEAD";

    /// <summary>The environment's variable: how many times faster than the machine's, and since which moment (seconds
    /// since 1970 by the machine's clock), as in <c>600@1796000000</c>.</summary>
    public const string RateVariable = "TIDESTEP_CLOCK_RATE";

    private readonly TimeSpan _ahead;
    private readonly int _rate;
    private readonly DateTimeOffset _since;

    private ShiftedClock(TimeSpan ahead, int rate, DateTimeOffset since) =>
        (_ahead, _rate, _since) = (ahead, rate, since);

    /// <summary>The clock of this process: the machine's where the environment says nothing.</summary>
    /// <exception cref="FormatException">A variable is not of its form.</exception>
    public static TimeProvider OfProcess { get; } =
        From(Environment.GetEnvironmentVariable(Variable), Environment.GetEnvironmentVariable(RateVariable));

    /// <summary>The clock that two variables name.</summary>
    /// <exception cref="FormatException">A variable is not of its form.</exception>
    internal static TimeProvider From(string? ahead, string? rate)
    {
        if (string.IsNullOrEmpty(ahead) && string.IsNullOrEmpty(rate))
            return System;
        var span = string.IsNullOrEmpty(ahead)
            ? 0
            : Whole(ahead) ?? throw new FormatException($"{Variable} must be a whole number of seconds, not '{ahead}'");
        if (string.IsNullOrEmpty(rate))
            return new ShiftedClock(TimeSpan.FromSeconds(span), 1, DateTimeOffset.UnixEpoch);
        var at = rate.IndexOf('@');
        return at > 0 && Whole(rate[..at]) is { } times and > 0 and <= 3600 && Whole(rate[(at + 1)..]) is { } since
            ? new ShiftedClock(
                TimeSpan.FromSeconds(span),
                (int)times,
                DateTimeOffset.UnixEpoch + TimeSpan.FromSeconds(since)
            )
            : throw new FormatException(
                $"{RateVariable} must be a rate from 1 to 3600 and a moment in seconds, as in 600@1796000000, "
                    + $"not '{rate}'"
            );
    }

    private static long? Whole(string text) =>
        long.TryParse(text, NumberStyles.AllowLeadingSign, CultureInfo.InvariantCulture, out var read) ? read : null;

    public override DateTimeOffset GetUtcNow()
    {
        var now = base.GetUtcNow();
        return now + _ahead + ((_rate - 1) * (now - _since));
    }

    public override long TimestampFrequency => base.TimestampFrequency / _rate;

    public override ITimer CreateTimer(TimerCallback callback, object? state, TimeSpan dueTime, TimeSpan period) =>
        base.CreateTimer(callback, state, Scaled(dueTime), Scaled(period));

    /// <summary>A span of this clock in the machine's time; what never comes stays so, and nothing comes at
    /// once.</summary>
    private TimeSpan Scaled(TimeSpan span) =>
        span <= TimeSpan.Zero || _rate == 1
            ? span
            : TimeSpan.FromMilliseconds(Math.Max(1, Math.Ceiling(span.TotalMilliseconds / _rate)));
}
