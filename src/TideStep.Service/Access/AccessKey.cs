using System.Collections.Concurrent;
using System.Security.Cryptography;
using System.Text;

namespace TideStep.Service.Access;

/// <summary>The one key of this installation, made at the first start; and one-time links that give it to a browser.
/// Accounts will replace both.</summary>
public sealed class AccessKey
{
    private readonly ConcurrentDictionary<string, DateTimeOffset> _tickets = new();
    private readonly TimeProvider _time;

    private AccessKey(string value, TimeProvider time) => (Value, _time) = (value, time);

    public string Value { get; }

    /// <summary>Reads the key from the data folder, or makes it with mode 0600.</summary>
    public static AccessKey Open(string data, TimeProvider time)
    {
        var path = Path.Combine(data, "access.key");
        if (!File.Exists(path))
        {
            var options = new FileStreamOptions { Mode = FileMode.CreateNew, Access = FileAccess.Write };
            if (!OperatingSystem.IsWindows())
                options.UnixCreateMode = UnixFileMode.UserRead | UnixFileMode.UserWrite;
            using var file = new FileStream(path, options);
            file.Write(Encoding.ASCII.GetBytes(Convert.ToHexStringLower(RandomNumberGenerator.GetBytes(24))));
        }
        return new AccessKey(File.ReadAllText(path).Trim(), time);
    }

    public bool Fits(string? given) =>
        given is not null
        && CryptographicOperations.FixedTimeEquals(Encoding.UTF8.GetBytes(given), Encoding.UTF8.GetBytes(Value));

    /// <summary>A ticket that opens the console once, within an hour.</summary>
    public string NewTicket()
    {
        var ticket = Convert.ToHexStringLower(RandomNumberGenerator.GetBytes(16));
        _tickets[ticket] = _time.GetUtcNow().AddHours(1);
        return ticket;
    }

    public bool Redeem(string ticket) => _tickets.TryRemove(ticket, out var until) && _time.GetUtcNow() < until;
}
