using TideStep.Core.Documents;

namespace TideStep.Core.Tests;

public sealed class HarmlessTests
{
    [Theory]
    [InlineData("plain, as it is", "plain, as it is")]
    [InlineData("café – 20 °C", "café – 20 °C")]
    [InlineData("\u001b[31mred\u001b[0m", "␛[31mred␛[0m")]
    [InlineData("a\nb\tc\r\nd", "a b c d")]
    [InlineData("over\rwritten", "over␍written")]
    [InlineData("\u202egpj.exe", "<U+202E>gpj.exe")]
    [InlineData("\u0085\u009b31m", "<U+0085><U+009B>31m")]
    [InlineData("pass\u200bword\u007f\0", "pass<U+200B>word␡␀")]
    public void A_line_shows_what_would_steer(string text, string shown) => Assert.Equal(shown, Harmless.Line(text));

    [Fact]
    public void Several_lines_keep_their_ends() => Assert.Equal("a\n\tb␛\nc", Harmless.Lines("a\r\n\tb\u001b\nc"));

    [Theory]
    [InlineData("<img src=x onerror=alert(1)>", "&lt;img src=x onerror=alert(1)&gt;")]
    [InlineData("[here](javascript:x) | `code`", "\\[here\\](javascript:x) \\| \\`code\\`")]
    [InlineData("first\n# second", "first # second")]
    public void Markdown_takes_it_as_text(string text, string shown) => Assert.Equal(shown, Harmless.Markdown(text));

    [Theory]
    [InlineData("=cmd|' /C calc'!A0", "'=cmd|' /C calc'!A0")]
    [InlineData("-2+3+cmd|' /C calc'!A0", "'-2+3+cmd|' /C calc'!A0")]
    [InlineData("@SUM(1)", "'@SUM(1)")]
    [InlineData("\t=1", "'\t=1")]
    [InlineData("-12.5", "-12.5")]
    [InlineData("+3", "+3")]
    [InlineData("ledger-south", "ledger-south")]
    public void A_field_is_no_formula(string text, string field) => Assert.Equal(field, Harmless.Field(text));
}
