namespace TideStep.Tests.Yardstick;

/// <summary>How a jump is done, in the order of 3-planning's table.</summary>
internal enum Way
{
    Rolling,
    Replace,
    TwoSlot,
    SideBySide,
    Offline,
}

/// <summary>What is said of a pair, from best to worst.</summary>
internal enum Said
{
    Supported,
    Transitional,
    Untested,
    Unsupported,
}

/// <summary>How two components touch.</summary>
internal enum Touch
{
    DependsOn,
    StandsOn,
    Inside,
    Peer,
}

/// <summary>A rule by sets of versions, or by distance where <see cref="Distance"/> is there.</summary>
internal sealed record DrawnRule(Touch Touch, bool FromOther, int Other, bool[] This, bool[] At, Said Says)
{
    public (bool ByMajor, int Older, int Newer)? Distance { get; init; }
}

internal sealed record DrawnWay(Way Way, int Member, int Settle, int Outage, int Install);

/// <summary>A jump; minutes as they are written.</summary>
internal sealed record DrawnJump(string Id, bool[] From, int To)
{
    public bool FromNone { get; init; }
    public bool Down { get; init; }
    public bool RestartsNode { get; init; }
    public bool Closes { get; init; }
    public bool Loses { get; init; }
    public required List<DrawnWay> Ways { get; init; }
    public List<(int Product, bool[] Range)> Requires { get; init; } = [];
    public List<(int Product, bool[] Range)> Together { get; init; } = [];
}

internal sealed record DrawnRelease(string Label, int Major, int Minor, int Line, int? EndsIn, bool Known);

/// <summary>A product: its versions in ascending order; one that the catalogue does not know may be among
/// them.</summary>
internal sealed record DrawnProduct(
    string Id,
    List<DrawnRelease> Versions,
    List<DrawnRule> Rules,
    List<DrawnJump> Jumps
);

internal sealed record DrawnMember(string Node, string? Domain, string? Role)
{
    /// <summary>What it runs: -1 nothing, -2 unknown.</summary>
    public int Running { get; init; }
    public int Installed { get; init; } = -1;
    public bool InService { get; init; } = true;
}

internal sealed record DrawnRelation(Touch Touch, int To, bool Optional, bool Together);

internal sealed record DrawnComponent(string Id, int Product, string Site, List<DrawnMember> Members)
{
    public List<DrawnRelation> Relations { get; init; } = [];
    public int Keep { get; init; }
    public bool Quorum { get; init; }
    public int Margin { get; init; }
    public int AtOnce { get; init; } = 1;
    public bool DomainsMatter { get; init; } = true;
    public int Spares { get; init; } = 1;
}

internal enum Wish
{
    To,
    AtLeast,
}

/// <summary>A tiny estate with all that 3-planning speaks of, as it was drawn; a version is its place in its
/// product's list.</summary>
internal sealed class Drawn
{
    public required List<DrawnProduct> Products { get; init; }
    public required List<DrawnComponent> Components { get; init; }
    public required List<(int Component, bool[] Range, Wish Wish)> Goal { get; init; }

    /// <summary>Days from the planning day, for a goal by support; null for one by components.</summary>
    public int? SupportedIn { get; init; }
    public HashSet<int> Pins { get; init; } = [];
    public List<string> Order { get; init; } = [];
    public bool Newest { get; init; }
    public bool AllowAll { get; init; }
    public List<(int A, int VersionA, int B, int VersionB)> Allowed { get; init; } = [];

    /// <summary>What was drawn, by name, to count how often it was.</summary>
    public SortedSet<string> Features { get; } = [];
}
