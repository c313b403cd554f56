using System.Collections.Concurrent;
using System.Security.Cryptography;
using System.Text;

namespace TideStep.Service.Access;

/// <summary>The key of this installation, made at the first start, for whoever may read the data folder: the local
/// administrator always gets in. And one-time links that begin a session in a browser.</summary>
public sealed class AccessKey
{
    private readonly ConcurrentDictionary<string, (DateTimeOffset Until, string Person, long Stamp)> _tickets = new();
    private readonly TimeProvider _time;

    private AccessKey(string value, TimeProvider time) => (Value, _time) = (value, time);

    private string Value { get; }

    /// <summary>Reads the key from the data folder, or makes it with mode 0600.</summary>
    /// <exception cref="FormatException">Others may read it, in words.</exception>
    public static AccessKey Open(string data, TimeProvider time)
    {
        var path = Path.Combine(data, "access.key");
        if (!File.Exists(path))
        {
            var options = new FileStreamOptions
            {
                Mode = FileMode.CreateNew,
                Access = FileAccess.Write,
                UnixCreateMode = UnixFileMode.UserRead | UnixFileMode.UserWrite,
            };
            using var file = new FileStream(path, options);
            file.Write(Encoding.ASCII.GetBytes(Convert.ToHexStringLower(RandomNumberGenerator.GetBytes(24))));
        }
        return new AccessKey(File.ReadAllText(path).Trim(), time);
    }

    public bool Fits(string? given) =>
        given is not null
        && CryptographicOperations.FixedTimeEquals(Encoding.UTF8.GetBytes(given), Encoding.UTF8.GetBytes(Value));

    /// <summary>What only this installation can say of a text.</summary>
    public string SealOf(string text) =>
        Convert.ToHexStringLower(HMACSHA256.HashData(Encoding.UTF8.GetBytes(Value), Encoding.UTF8.GetBytes(text)));

    /// <summary>A ticket that opens the console once, within an hour, for a person or who has the local key.</summary>
    public string NewTicket(string person = Caller.LocalId, long stamp = 0)
    {
        var ticket = Convert.ToHexStringLower(RandomNumberGenerator.GetBytes(16));
        _tickets[ticket] = (_time.GetUtcNow().AddHours(1), person, stamp);
        return ticket;
    }

    /// <summary>For whom a ticket opens; null where it was used or is too old.</summary>
    public (string Person, long Stamp)? Redeem(string ticket) =>
        _tickets.TryRemove(ticket, out var its) && _time.GetUtcNow() < its.Until ? (its.Person, its.Stamp) : null;
}
