namespace TideStep.StandIn;

/// <summary>One program on a simulated node: what is installed, what runs, and how far behind it is.</summary>
internal sealed class SimulatedMember(
    string component,
    string product,
    string? running,
    string? role,
    IReadOnlyDictionary<string, string> values
)
{
    private readonly Dictionary<string, string> _values = new(values);

    /// <summary>Changes what one of its readings tells from now on: a disk that was grown, a queue that ran
    /// full.</summary>
    public void Set(string name, string value) => _values[name] = value;

    public string Component { get; } = component;
    public string Product { get; } = product;
    public string? Running { get; set; } = running;
    public string? Installed { get; set; } = running;
    public string? Staged { get; set; }
    public string? Role { get; set; } = role;
    public bool Started { get; set; } = running is not null;

    /// <summary>Whether it takes work: started, and not declared out.</summary>
    public bool Admitted { get; set; } = running is not null;
    public DateTimeOffset CaughtUpAt { get; set; } = DateTimeOffset.MinValue;
    public DateTimeOffset DrainedAt { get; set; } = DateTimeOffset.MaxValue;

    /// <summary>The version whose form the stored data has; a program older than it does not start.</summary>
    public string? DataVersion { get; set; }

    public MemberReport Report(DateTimeOffset now)
    {
        var inStep = Started && now >= CaughtUpAt;
        var values = new Dictionary<string, string>(_values)
        {
            ["state"] =
                !Started ? "stopped"
                : inStep ? "in step"
                : "catching up",
            ["admitted"] = Admitted ? "true" : "false",
            ["sessions"] = !Started || now >= DrainedAt ? "0" : _values.GetValueOrDefault("sessions", "40"),
            ["lag"] = inStep ? _values.GetValueOrDefault("lag", "0 B") : "64 MiB",
            ["objects"] = _values.GetValueOrDefault("objects", "1000"),
            ["data-version"] = DataVersion ?? "",
        };
        return new MemberReport(
            Component,
            Product,
            Started ? Running : null,
            Installed,
            Staged,
            Role,
            Started && Admitted && inStep,
            values
        );
    }
}
