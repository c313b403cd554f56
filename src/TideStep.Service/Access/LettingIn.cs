using System.Collections.Concurrent;
using System.Security.Cryptography;
using System.Text;

namespace TideStep.Service.Access;

/// <summary>A command line that asks to be let in by somebody who is signed in to the console.</summary>
/// <param name="Code">What both show, so that the person sees that it is theirs.</param>
/// <param name="Challenge">The SHA-256, in hexadecimal, of what the command line alone knows (RFC 7636).</param>
/// <param name="Program">What it says of itself.</param>
/// <param name="From">The address that it asked from.</param>
/// <param name="Here">Whether it waits in the browser's own machine, and gets its last piece by that browser alone:
/// then nobody elsewhere can have asked.</param>
public sealed record AskedIn(
    string Code,
    string Challenge,
    string Program,
    string From,
    bool Here,
    DateTimeOffset Until
);

/// <summary>What came of it.</summary>
public enum AskedInState
{
    Waiting,
    LetIn,
    Refused,
    Gone,
}

/// <summary>Lets a command line in without its having seen a password: it shows a code, and somebody who is signed in
/// to the console says that it is theirs (after RFC 8628 where there is no browser beside it, RFC 8252 where there
/// is).</summary>
public sealed class LettingIn(TimeProvider time)
{
    // Letters that are not taken for one another, and make no words.
    private const string Letters = "BCDFGHJKLMNPQRSTVWXZ";
    private const int MostWaiting = 1000;
    private const int MostFromOne = 20;
    private static readonly TimeSpan Lasts = TimeSpan.FromMinutes(10);

    private readonly ConcurrentDictionary<string, Waiting> _asked = new();

    private sealed record Waiting(
        AskedIn Its,
        string? Person = null,
        long Stamp = 0,
        string? Piece = null,
        bool No = false
    );

    /// <summary>Begins; null where too many wait already.</summary>
    public AskedIn? Ask(string challenge, string program, string from, bool here)
    {
        foreach (var old in _asked.Where(a => a.Value.Its.Until < time.GetUtcNow()))
            _asked.TryRemove(old);
        if (_asked.Count >= MostWaiting || _asked.Values.Count(a => a.Its.From == from) >= MostFromOne)
            return null;
        var code = RandomNumberGenerator.GetString(Letters, 8).Insert(4, "-");
        var its = new AskedIn(code, challenge, program, from, here, time.GetUtcNow() + Lasts);
        return _asked.TryAdd(code, new Waiting(its)) ? its : null;
    }

    /// <summary>Who waits under a code, for whoever is to say that it is theirs; null where nobody does.</summary>
    public AskedIn? Find(string code) => Live(code) is { Person: null, No: false } waiting ? waiting.Its : null;

    /// <summary>Lets it in as somebody.</summary>
    /// <returns>The piece that the browser hands over, empty where it is not needed; null where nobody waits.</returns>
    public string? Let(string code, string person, long stamp)
    {
        if (Live(code) is not { Person: null, No: false } waiting)
            return null;
        var piece = waiting.Its.Here ? Convert.ToHexStringLower(RandomNumberGenerator.GetBytes(16)) : "";
        var let = waiting with { Person = person, Stamp = stamp, Piece = piece };
        return _asked.TryUpdate(waiting.Its.Code, let, waiting) ? piece : null;
    }

    /// <summary>Says that it is not theirs.</summary>
    public bool Refuse(string code) =>
        Live(code) is { Person: null, No: false } waiting
        && _asked.TryUpdate(waiting.Its.Code, waiting with { No = true }, waiting);

    /// <summary>Takes what came of it; whoever was let in is so once.</summary>
    /// <param name="verifier">What the command line alone knows.</param>
    /// <param name="piece">What the browser handed over.</param>
    public (AskedInState State, string Person, long Stamp) Take(string code, string verifier, string? piece)
    {
        if (Live(code) is not { } waiting || !Same(Hash(verifier), waiting.Its.Challenge))
            return (AskedInState.Gone, "", 0);
        if (waiting.No)
            return (AskedInState.Refused, "", 0);
        if (
            waiting is not { Person: { } person, Piece: { } needed }
            || needed.Length > 0 && string.IsNullOrEmpty(piece)
        )
            return (AskedInState.Waiting, "", 0);
        // A wrong piece is somebody else's: what was let in is so no more.
        return _asked.TryRemove(KeyValuePair.Create(waiting.Its.Code, waiting)) && Same(piece ?? "", needed)
            ? (AskedInState.LetIn, person, waiting.Stamp)
            : (AskedInState.Gone, "", 0);
    }

    private Waiting? Live(string code) =>
        _asked.GetValueOrDefault(code.Trim().ToUpperInvariant()) is { } waiting && waiting.Its.Until >= time.GetUtcNow()
            ? waiting
            : null;

    private static string Hash(string text) => Convert.ToHexStringLower(SHA256.HashData(Encoding.UTF8.GetBytes(text)));

    private static bool Same(string one, string other) =>
        CryptographicOperations.FixedTimeEquals(Encoding.UTF8.GetBytes(one), Encoding.UTF8.GetBytes(other));
}
