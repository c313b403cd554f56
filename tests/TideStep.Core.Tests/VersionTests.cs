using CsCheck;
using TideStep.Core.Versions;

namespace TideStep.Core.Tests;

public sealed class VersionTests
{
    private static Versions.Version V(string label) => VersionScheme.Dotted.TryParse(label)!;

    [Theory]
    [InlineData("3.8 U2 P1", "3.8 U2")]
    [InlineData("8.1", "8 U4")]
    [InlineData("5.4.1c", "5.4.1b")]
    [InlineData("5.4.1b", "5.4.1")]
    [InlineData("14.0.2.1", "14.0.2")]
    [InlineData("14.0.1", "2.6.0_41")]
    [InlineData("6.10", "6.9")]
    [InlineData("4.0", "4.0-rc2")]
    [InlineData("4.0-build7", "4.0")]
    [InlineData("4.0-rc2", "4.0-beta9")]
    [InlineData("1.0+b2", "1.0+b1")]
    [InlineData("99999999999999999999999.2", "99999999999999999999999.1")]
    public void Real_labels_order_right(string higher, string lower)
    {
        Assert.True(V(higher) > V(lower));
        Assert.True(V(lower) < V(higher));
    }

    [Theory]
    [InlineData("v5.2", "5.2")]
    [InlineData("Release 5.2", "5.2")]
    [InlineData("r-5.2", "5_2")]
    [InlineData("5.02", "5.2")]
    public void A_leading_mark_and_the_signs_between_are_not_compared(string a, string b) => Assert.Equal(V(a), V(b));

    [Theory]
    [InlineData(">=5.2 <7", "6.9", true)]
    [InlineData(">=5.2 <7", "7", false)]
    [InlineData("<7", "7-rc1", false)]
    [InlineData("<7", "6.9-rc1", true)]
    [InlineData(">=7", "7.0-rc1", false)]
    [InlineData(">7", "7.0.0-beta2", false)]
    [InlineData(">=7-rc1", "7-rc2", true)]
    [InlineData("6.1.x", "6.1.4", true)]
    [InlineData("6.1.x", "6.10", false)]
    [InlineData("=6.1.4", "6.1.4", true)]
    [InlineData("6.1", "6.1.0", true)]
    [InlineData("6.1", "6.1.1", false)]
    [InlineData(">=3.8 U2 <4", "3.8 U2 P1", true)]
    [InlineData("<5 || >=6", "6.2", true)]
    [InlineData("*", "0.1", true)]
    [InlineData("vers:generic/>=1.0|<2.0|3.1", "3.1", true)]
    [InlineData("vers:generic/>=1.0|!=1.5|<2.0", "1.5", false)]
    public void Ranges_hold_what_they_say(string range, string label, bool holds) =>
        Assert.Equal(holds, VersionRange.TryParse(range, VersionScheme.Dotted, out _)!.Contains(V(label)));

    [Fact]
    public void An_exact_label_does_not_find_other_zeros_where_a_release_is_written_so() =>
        Assert.False(
            VersionRange.TryParse("=6.1", VersionScheme.Dotted, out _)!.Contains(V("6.1.0"), v => v.Label == "6.1")
        );

    [Theory]
    [InlineData(SchemeKind.Semver, "1.0.0", "1.0.0-rc.1")]
    [InlineData(SchemeKind.Semver, "1.0.0-rc.11", "1.0.0-rc.2")]
    [InlineData(SchemeKind.Semver, "1.0.0-alpha.beta", "1.0.0-alpha.1")]
    [InlineData(SchemeKind.Deb, "1:0.9", "2.0")]
    [InlineData(SchemeKind.Deb, "2.0", "2.0~rc1")]
    [InlineData(SchemeKind.Deb, "2.0-10", "2.0-9")]
    [InlineData(SchemeKind.Deb, "1.0+b1", "1.0")]
    [InlineData(SchemeKind.Rpm, "2.0-3.el9", "2.0-2.el9")]
    [InlineData(SchemeKind.Rpm, "1.0^git1", "1.0")]
    [InlineData(SchemeKind.Rpm, "1.0", "1.0~rc1")]
    [InlineData(SchemeKind.Date, "2026-11-02", "2026-02-11")]
    public void Each_scheme_orders_as_its_own_rules_say(SchemeKind kind, string higher, string lower)
    {
        var scheme = new VersionScheme(kind);
        Assert.True(scheme.TryParse(higher)! > scheme.TryParse(lower)!);
    }

    [Fact]
    public void Listed_releases_order_as_they_stand()
    {
        var scheme = new VersionScheme(SchemeKind.Listed, default, ["Sprat", "Herring", "Cod"]);
        Assert.True(scheme.TryParse("Cod")! > scheme.TryParse("Herring")!);
        Assert.True(scheme.TryParse("Herring")! > scheme.TryParse("Sprat")!);
    }

    private static readonly string[] Pieces = ["1", "2", "10", "rc", "beta", "build", "a", "0", "U2"];
    private static readonly string[] Signs = [".", "-", " ", "", "+"];

    private static readonly Gen<string> Label = Gen.Select(Gen.Int[0, 8], Gen.Int[0, 4], (p, s) => Signs[s] + Pieces[p])
        .Array[1, 5]
        .Select(p => "1" + string.Concat(p));

    [Fact]
    public void The_order_of_labels_is_total() =>
        Gen.Select(Label, Label, Label)
            .Sample(
                (a, b, c) =>
                {
                    var (x, y, z) = (V(a), V(b), V(c));
                    Assert.Equal(Math.Sign(x.CompareTo(y)), -Math.Sign(y.CompareTo(x)));
                    if (x <= y && y <= z)
                        Assert.True(x <= z, $"{a} <= {b} <= {c}");
                    if (x.Equals(y))
                        Assert.Equal(x.GetHashCode(), y.GetHashCode());
                },
                iter: 3000
            );
}
