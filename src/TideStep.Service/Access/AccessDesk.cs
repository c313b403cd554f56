using System.Collections.Immutable;
using System.Security.Cryptography;
using System.Text;
using System.Text.Json;
using Microsoft.AspNetCore.Identity;
using TideStep.Core.Access;
using TideStep.Core.Documents;
using TideStep.Storage;

namespace TideStep.Service.Access;

/// <summary>People, programs and sessions (11-access): who they are, what they show, what ends it. Only hashes are kept
/// of what they show.</summary>
public sealed class AccessDesk(IAccessStore store, TimeProvider time)
{
    private const string PersonKind = "person",
        TokenKind = "token",
        SessionKind = "session";

    /// <summary>How long a session may be idle, and how long it may last.</summary>
    public static readonly TimeSpan Idle = TimeSpan.FromMinutes(30),
        Longest = TimeSpan.FromHours(12);

    /// <summary>How long an invitation counts.</summary>
    public static readonly TimeSpan Invited = TimeSpan.FromDays(3);

    // How often it is noted that a session or a token was used.
    private static readonly TimeSpan Noted = TimeSpan.FromMinutes(1);

    private static readonly PasswordHasher<Person> Hasher = new();

    // Compared where there is no such person, so that it takes as long.
    private static readonly string Nobodys = Hasher.HashPassword(null!, Random(24));

    /// <summary>People in their order of names; those who were removed among them, for their names are taken.</summary>
    public async Task<IReadOnlyList<Person>> PeopleAsync(CancellationToken ct) =>
        [
            .. (await store.AccessAsync(PersonKind, ct))
                .Select(row => row.Damaged ? Aside(row) : Read<Person>(row))
                .OrderBy(p => AccountRules.KeyOf(p.Name), StringComparer.Ordinal),
        ];

    // Whoever changed a row by hand gets nothing by it; the name stays taken where it can be read.
    private static Person Aside(StoredAccess row)
    {
        var name = row.Id;
        try
        {
            name = Read<Person>(row).Name;
        }
        catch (Exception e) when (e is JsonException or DamagedRecordException)
        { /* not even that is left of it */
        }
        return new Person(row.Id, name, [], null, 0, default, "") { SetAside = true };
    }

    public async Task<Person?> FindPersonAsync(string id, CancellationToken ct) =>
        await store.FindAccessAsync(PersonKind, id, ct) is { } row ? Read<Person>(row) : null;

    /// <summary>Whether there is anybody besides who has the local key.</summary>
    public async Task<bool> AnybodyAsync(CancellationToken ct) => (await PeopleAsync(ct)).Any(p => p.RemovedAt is null);

    /// <summary>Makes a person, who chooses a password by the invitation.</summary>
    public async Task<(Person? Person, string Invitation, Problem? Refused)> AddPersonAsync(
        string name,
        ImmutableArray<Grant> roles,
        string by,
        CancellationToken ct
    )
    {
        if (AccountRules.WrongName(name) is { } wrong)
            return (null, "", wrong);
        if (await TakenAsync(name, ct) is { } taken)
            return (null, "", taken);
        var invitation = Random(24);
        var person = new Person($"p{Random(5)}", name, roles, null, 1, time.GetUtcNow(), by)
        {
            Invitation = HashOf(invitation),
            InvitedUntil = time.GetUtcNow() + Invited,
        };
        await store.SaveAccessAsync(new StoredAccess(PersonKind, person.Id, 1, Write(person)), ct);
        return (person, invitation, null);
    }

    // Names of programs and people are taken from one another, for both stand on what was done.
    private async Task<Problem?> TakenAsync(string name, CancellationToken ct)
    {
        var key = AccountRules.KeyOf(name);
        var taken = (await PeopleAsync(ct))
            .Select(p => p.Name)
            .Concat((await TokensAsync(ct)).Select(t => t.Name))
            .Append(Caller.LocalName);
        return taken.Any(n => AccountRules.KeyOf(n) == key)
            ? new Problem(
                $"the name '{name}' is taken",
                null,
                "A name stands on what was done and is never given again: take another."
            )
            : null;
    }

    /// <summary>Changes a person; their sessions end.</summary>
    /// <returns>The person as changed, or null where there is none.</returns>
    public async Task<Person?> ChangePersonAsync(string id, Func<Person, Person> change, CancellationToken ct)
    {
        while (await store.FindAccessAsync(PersonKind, id, ct) is { } row)
        {
            var was = Read<Person>(row);
            var changed = change(was) with { Stamp = was.Stamp + 1 };
            if (await store.SaveAccessAsync(row with { Revision = row.Revision + 1, Body = Write(changed) }, ct))
                return changed;
        }
        return null;
    }

    /// <summary>A new invitation for somebody; the one before counts no more, and their password neither.</summary>
    public async Task<string?> InviteAsync(string id, CancellationToken ct)
    {
        var invitation = Random(24);
        var invited = await ChangePersonAsync(
            id,
            p => p with { Password = null, Invitation = HashOf(invitation), InvitedUntil = time.GetUtcNow() + Invited },
            ct
        );
        return invited is null ? null : invitation;
    }

    /// <summary>Chooses a password by an invitation.</summary>
    public async Task<(Person? Person, Problem? Refused)> JoinAsync(
        string invitation,
        string? password,
        CancellationToken ct
    )
    {
        var hash = HashOf(invitation);
        var person = (await PeopleAsync(ct)).FirstOrDefault(p =>
            p is { Invitation: { } its, RemovedAt: null } && its == hash && p.InvitedUntil > time.GetUtcNow()
        );
        if (person is null)
            return (
                null,
                new Problem("this invitation was used or is too old", null, "Ask an administrator for a new one.")
            );
        if (AccountRules.WrongPassword(password, person.Name) is { } wrong)
            return (null, wrong);
        var joined = await ChangePersonAsync(
            person.Id,
            p =>
                p.Invitation == hash
                    ? p with
                    {
                        Password = Hasher.HashPassword(p, password!),
                        Invitation = null,
                        InvitedUntil = null,
                    }
                    : p,
            ct
        );
        return (joined, null);
    }

    /// <summary>The person of that name, who was not removed; null where there is none.</summary>
    public async Task<Person?> NamedAsync(string name, CancellationToken ct)
    {
        var key = AccountRules.KeyOf(name);
        return (await PeopleAsync(ct)).FirstOrDefault(p =>
            p is { RemovedAt: null, SetAside: false } && AccountRules.KeyOf(p.Name) == key
        );
    }

    /// <summary>The person of that name and password; null where there is none. It takes as long for a name that nobody
    /// has.</summary>
    public async Task<Person?> KnowAsync(string name, string password, CancellationToken ct)
    {
        var key = AccountRules.KeyOf(name);
        var person = (await PeopleAsync(ct)).FirstOrDefault(p =>
            p is { RemovedAt: null, Password: not null } && AccountRules.KeyOf(p.Name) == key
        );
        var right = Hasher.VerifyHashedPassword(person!, person?.Password ?? Nobodys, password);
        return person is not null && right != PasswordVerificationResult.Failed ? person : null;
    }

    /// <summary>Begins a session.</summary>
    /// <returns>What the holder shows.</returns>
    public async Task<string> BeginAsync(string person, long stamp, string from, CancellationToken ct)
    {
        var shown = Random(32);
        var now = time.GetUtcNow();
        var session = new Session($"s{Random(4)}", person, stamp, now, now, from);
        await store.SaveAccessAsync(new StoredAccess(SessionKind, HashOf(shown), 1, Write(session)), ct);
        return shown;
    }

    public Task EndAsync(string shown, CancellationToken ct) => store.ForgetAccessAsync(SessionKind, HashOf(shown), ct);

    /// <summary>Who shows this; null where it is of nobody, or has ended.</summary>
    public async Task<Caller?> CallerOfAsync(string shown, CancellationToken ct)
    {
        var hash = HashOf(shown);
        try
        {
            return await OfSessionAsync(hash, ct) ?? await OfTokenAsync(hash, ct);
        }
        catch (DamagedRecordException)
        {
            return null; // whose row was changed does not come in by it
        }
    }

    private async Task<Caller?> OfSessionAsync(string hash, CancellationToken ct)
    {
        if (await store.FindAccessAsync(SessionKind, hash, ct) is not { } row)
            return null;
        var (session, now) = (Read<Session>(row), time.GetUtcNow());
        if (now - session.SeenAt > Idle || now - session.BeganAt > Longest)
        {
            await store.ForgetAccessAsync(SessionKind, hash, ct);
            return null;
        }
        if (now - session.SeenAt > Noted)
            await NoteAsync(row with { Revision = row.Revision + 1, Body = Write(session with { SeenAt = now }) }, ct);
        var secret = HashOf(hash + " session");
        if (session.Person == Caller.LocalId)
            return new Caller(CallerKind.Local, Caller.LocalId, "", Grants.All, session.Id, secret);
        return await FindPersonAsync(session.Person, ct) is { RemovedAt: null } person && person.Stamp == session.Stamp
            ? new Caller(CallerKind.Person, person.Id, person.Name, person.Roles, session.Id, secret)
            : null;
    }

    private async Task<Caller?> OfTokenAsync(string hash, CancellationToken ct)
    {
        if (await store.FindAccessAsync(TokenKind, hash, ct) is not { } row)
            return null;
        var (token, now) = (Read<ProgramToken>(row), time.GetUtcNow());
        if (token.RevokedAt is not null || DateOnly.FromDateTime(now.UtcDateTime) > token.LastDay)
            return null;
        if (token.UsedAt is not { } used || now - used > Noted)
            await NoteAsync(row with { Revision = row.Revision + 1, Body = Write(token with { UsedAt = now }) }, ct);
        return new Caller(CallerKind.Program, token.Id, token.Name, token.Roles, token.Id);
    }

    // That it was used is a help; where it can't be written nobody is kept out for that.
    private async Task NoteAsync(StoredAccess row, CancellationToken ct)
    {
        try
        {
            await store.SaveAccessAsync(row, ct);
        }
        catch (StoreUnavailableException)
        { /* said wherever something has to be written */
        }
    }

    /// <summary>Programs' tokens, newest first; those that count no more among them.</summary>
    public async Task<IReadOnlyList<ProgramToken>> TokensAsync(CancellationToken ct) =>
        [
            .. (await store.AccessAsync(TokenKind, ct))
                .Where(r => !r.Damaged)
                .Select(r => Read<ProgramToken>(r) with { Hash = r.Id })
                .OrderByDescending(t => t.MadeAt),
        ];

    /// <summary>Makes a token.</summary>
    /// <returns>The token, and what the program shows, which is kept nowhere.</returns>
    public async Task<(ProgramToken? Token, string Shown, Problem? Refused)> AddTokenAsync(
        string name,
        ImmutableArray<Grant> roles,
        DateOnly lastDay,
        string by,
        CancellationToken ct
    )
    {
        if (AccountRules.WrongName(name) is { } wrong)
            return (null, "", wrong);
        if (await TakenAsync(name, ct) is { } taken)
            return (null, "", taken);
        if (lastDay < DateOnly.FromDateTime(time.GetUtcNow().UtcDateTime))
            return (null, "", new Problem($"its last day, {lastDay:yyyy-MM-dd}, is over", null, "Give a later one."));
        var shown = $"ts_{Random(32)}";
        var token = new ProgramToken($"t{Random(4)}", name, roles, lastDay, time.GetUtcNow(), by);
        await store.SaveAccessAsync(new StoredAccess(TokenKind, HashOf(shown), 1, Write(token)), ct);
        return (token, shown, null);
    }

    /// <summary>Revokes a token; gives it, or null where there is none that counts.</summary>
    public async Task<ProgramToken?> RevokeAsync(string id, CancellationToken ct)
    {
        var known = (await TokensAsync(ct)).FirstOrDefault(t => t.Id == id && t.RevokedAt is null);
        while (known is not null && await store.FindAccessAsync(TokenKind, known.Hash, ct) is { } row)
        {
            var revoked = Read<ProgramToken>(row) with { RevokedAt = time.GetUtcNow() };
            if (await store.SaveAccessAsync(row with { Revision = row.Revision + 1, Body = Write(revoked) }, ct))
                return revoked;
        }
        return null;
    }

    /// <summary>Takes away sessions that have ended by themselves.</summary>
    public async Task ForgetEndedAsync(CancellationToken ct)
    {
        foreach (var row in await store.AccessAsync(SessionKind, ct))
            if (
                row.Damaged
                || Read<Session>(row) is var session
                    && (time.GetUtcNow() - session.SeenAt > Idle || time.GetUtcNow() - session.BeganAt > Longest)
            )
                await store.ForgetAccessAsync(SessionKind, row.Id, ct);
    }

    private static string HashOf(string shown) =>
        Convert.ToHexStringLower(SHA256.HashData(Encoding.UTF8.GetBytes(shown)));

    private static string Random(int bytes) => Convert.ToHexStringLower(RandomNumberGenerator.GetBytes(bytes));

    private static string Write<T>(T value) => JsonSerializer.Serialize(value, Json.Options);

    private static T Read<T>(StoredAccess row) =>
        JsonSerializer.Deserialize<T>(row.Body, Json.Options)
        ?? throw new DamagedRecordException($"{row.Kind} {row.Id} holds nothing");
}
