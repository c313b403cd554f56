using System.Security.Cryptography;
using System.Text;
using System.Text.RegularExpressions;
using TideStep.Connectors.Notices;
using TideStep.Core.Notices;
using TideStep.Tests;

namespace TideStep.Connectors.Tests;

public sealed class NoticeSenderTests : IDisposable
{
    private readonly string _folder = Directory.CreateTempSubdirectory("tidestep-notices").FullName;
    private readonly HttpClient _http = new();

    private Secrets Keys(string key)
    {
        File.WriteAllText(Path.Combine(_folder, "desk"), key);
        if (!OperatingSystem.IsWindows())
            File.SetUnixFileMode(Path.Combine(_folder, "desk"), UnixFileMode.UserRead | UnixFileMode.UserWrite);
        return new Secrets(_folder);
    }

    [Fact]
    public async Task What_is_sent_can_be_proved_by_the_receiver_with_the_shared_key()
    {
        await using var receiver = new WebhookReceiver();
        var address = new Uri(receiver.Address + "?for=night");
        Assert.Null(
            await new WebhookSender(_http, Keys("heron\n"), TimeProvider.System).SendAsync(
                address,
                "secret:desk",
                """{"id":"1"}""",
                default
            )
        );
        var taken = Assert.Single(receiver.Took);
        Assert.Equal("application/cloudevents+json; charset=utf-8", taken.Headers["content-type"]);
        // As a receiver reckons it (RFC 9421, 3.2): from what it got, not from what was meant.
        Assert.Equal(
            $"sha-256=:{Convert.ToBase64String(SHA256.HashData(taken.Body))}:",
            taken.Headers["content-digest"]
        );
        var input = Regex.Match(taken.Headers["signature-input"], "^tide=(\\((.*)\\);.*)$");
        var lines = input
            .Groups[2]
            .Value.Split(' ')
            .Select(c => c.Trim('"'))
            .Select(c =>
                $"\"{c}\": "
                + $"{c switch { "@method" => "POST", "@target-uri" => address.AbsoluteUri, _ => taken.Headers[c] }}"
            );
        var text = string.Join('\n', lines.Append($"\"@signature-params\": {input.Groups[1].Value}"));
        Assert.Contains("alg=\"hmac-sha256\"", input.Groups[1].Value);
        Assert.Equal(
            $"tide=:"
                + (
                    Convert.ToBase64String(
                        HMACSHA256.HashData(Encoding.UTF8.GetBytes("heron"), Encoding.UTF8.GetBytes(text))
                    )
                )
                + $":",
            taken.Headers["signature"]
        );
    }

    [Fact]
    public async Task A_receiver_that_refuses_or_is_not_there_is_said()
    {
        Uri gone;
        await using (var receiver = new WebhookReceiver { Refuses = 1 })
        {
            gone = receiver.Address;
            Assert.Equal(
                "127.0.0.1 answered 503",
                await new WebhookSender(_http, Keys("heron"), TimeProvider.System).SendAsync(
                    gone,
                    "secret:desk",
                    "{}",
                    default
                )
            );
        }
        Assert.Contains(
            "does not answer",
            await new WebhookSender(_http, Keys("heron"), TimeProvider.System).SendAsync(
                gone,
                "secret:desk",
                "{}",
                default
            )
        );
        Assert.Contains(
            "desk",
            await new WebhookSender(_http, new Secrets(Path.Combine(_folder, "none")), TimeProvider.System).SendAsync(
                gone,
                "secret:desk",
                "{}",
                default
            )
        );
    }

    [Fact]
    public async Task Mail_goes_to_everybody_with_its_invitation()
    {
        await using var receiver = new MailReceiver();
        var settings = new MailSettings(
            "127.0.0.1",
            receiver.Port,
            "tide-step@marram.example",
            null,
            null,
            Encryption: false
        );
        var sender = new MailSender(new Secrets(_folder));
        Assert.Null(
            await sender.SendAsync(
                settings,
                ["night@marram.example", "ida@marram.example"],
                "r1-2-planned",
                "Relay to 3.2: planned",
                "It begins at one.\n",
                "BEGIN:VCALENDAR\nEND:VCALENDAR\n",
                default
            )
        );
        var (to, text) = Assert.Single(receiver.Took);
        Assert.Equal(["night@marram.example", "ida@marram.example"], to);
        Assert.Contains("Subject: Relay to 3.2: planned", text);
        Assert.Contains("Message-Id: <r1-2-planned@tidestep>", text);
        Assert.Contains("It begins at one.", text);
        Assert.Matches("Content-Type: text/calendar;.*method=\"?REQUEST", text.ReplaceLineEndings(" "));
        receiver.Refuses = "ida@marram.example";
        Assert.Contains(
            "nobody of that name",
            await sender.SendAsync(settings, ["ida@marram.example"], "r1-3", "x", "y", null, default)
        );
    }

    public void Dispose()
    {
        _http.Dispose();
        Directory.Delete(_folder, recursive: true);
    }
}
