using System.Collections.Immutable;
using TideStep.Core.Catalogue;
using TideStep.Core.Documents;

namespace TideStep.Core.Notices;

/// <summary>A moment in a run of which somebody wants to know.</summary>
public enum NoticeMoment
{
    Planned,
    Started,
    Halted,
    DecisionOpen,
    Late,
    Done,
    Returned,
}

/// <summary>Where notices go: to a system that takes HTTP, or to people by mail.</summary>
public enum NoticeTo
{
    Webhook,
    Mail,
}

/// <summary>Who is told of what.</summary>
/// <param name="Id">Its name.</param>
/// <param name="Address">The address that takes them, for a webhook.</param>
/// <param name="People">The addresses of people, for mail.</param>
/// <param name="Secret">The reference of the key that a webhook's messages are signed with.</param>
/// <param name="At">The moments.</param>
/// <param name="Invitation">Whether a mail of a planned run carries an invitation for its hours.</param>
public sealed record NoticeRule(
    string Id,
    NoticeTo To,
    Uri? Address,
    ImmutableArray<string> People,
    string? Secret,
    ImmutableHashSet<NoticeMoment> At,
    bool Invitation
);

/// <summary>How mail leaves.</summary>
/// <param name="Encryption">Whether a connection must be encrypted; without it a password is never sent.</param>
public sealed record MailSettings(
    string Host,
    int Port,
    string From,
    string? Account,
    string? Password,
    bool Encryption
);

/// <summary>All rules of an installation, and how mail leaves.</summary>
public sealed record NoticeSettings(ImmutableArray<NoticeRule> Rules, MailSettings? Mail)
{
    public static readonly NoticeSettings None = new([], null);
}

/// <summary>Reads a <c>notices/1</c> document.</summary>
public static class NoticesDocument
{
    public const string Kind = "notices/1";

    /// <summary>The moments by their words.</summary>
    public static readonly ImmutableArray<string> Moments =
    [
        "planned",
        "started",
        "halted",
        "decision-open",
        "late",
        "done",
        "returned",
    ];

    public static string Word(NoticeMoment moment) => Moments[(int)moment];

    public static Checked<NoticeSettings> Read(string text, string file)
    {
        var node = DocumentReader.Read(text, file);
        if (node.Value is null || !node.Problems.IsEmpty)
            return new Checked<NoticeSettings>(null, node.Problems);
        var findings = new Findings();
        var form = Form.Open(node.Value, "the document", findings);
        DocumentKinds.Expect(form, Kind);
        var rules = form.Map("notices").Select(n => ReadRule(n.Key, n.Value, n.At, findings)).ToImmutableArray();
        var mail = form.Node("mail") is { } given ? ReadMail(given, findings) : null;
        if (mail is null && rules.FirstOrDefault(r => r.To == NoticeTo.Mail) is { } lost)
            findings.Add(
                $"notice {lost.Id}: nothing says how mail leaves",
                form.At,
                "Add 'mail: {host: ..., from: ...}'."
            );
        form.Close();
        return new Checked<NoticeSettings>(findings.Any ? null : new NoticeSettings(rules, mail), findings.All);
    }

    private static NoticeRule ReadRule(string id, Node node, Place at, Findings findings)
    {
        Form.CheckId(id, at, "notice", findings);
        var form = Form.Open(node, $"notice {id}", findings, at);
        var to = form.Word("to", "webhook", "mail") == "mail" ? NoticeTo.Mail : NoticeTo.Webhook;
        if (!form.Has("to"))
            findings.Add($"notice {id}: 'to' is missing", at, "Write webhook or mail.");
        Uri? address = null;
        if (
            to == NoticeTo.Webhook
            && form.Required("address") is { Length: > 0 } text
            && !(Uri.TryCreate(text, UriKind.Absolute, out address) && address.Scheme is "http" or "https")
        )
            findings.Add(
                $"notice {id}: '{text}' is no address of a webhook",
                form.PlaceOf("address"),
                "Write it like https://desk.marram.example/tide."
            );
        var people = to == NoticeTo.Mail ? form.Words("people") : [];
        foreach (var (person, place) in people)
            if (
                person.Count(c => c == '@') != 1
                || person.Any(char.IsWhiteSpace)
                || person.StartsWith('@')
                || person.EndsWith('@')
            )
                findings.Add($"notice {id}: '{person}' is no mail address", place);
        if (to == NoticeTo.Mail && people.IsEmpty)
            findings.Add($"notice {id}: 'people' is missing", at, "Add the mail addresses.");
        var secret = to == NoticeTo.Webhook ? form.Text("secret") : null;
        if (to == NoticeTo.Webhook && secret is null)
            findings.Add(
                $"notice {id}: 'secret' is missing",
                at,
                "Messages are signed: write secret:NAME and keep the key with 'tidestep secret set NAME'."
            );
        else if (secret is not null && !secret.StartsWith("secret:", StringComparison.Ordinal))
            findings.Add(
                $"notice {id}: 'secret' is given as a reference",
                form.PlaceOf("secret"),
                "Write secret:NAME and keep the key with 'tidestep secret set NAME'."
            );
        var moments = form.Words("at");
        foreach (var (word, place) in moments)
            if (!Moments.Contains(word))
                findings.Add($"notice {id}: '{word}' is no moment", place, Nearest.Hint(word, Moments));
        var invitation = to == NoticeTo.Mail && form.Flag("invitation");
        form.Close();
        // None named, all are meant.
        var at_ = moments.IsEmpty
            ? [.. Enum.GetValues<NoticeMoment>()]
            : moments
                .Where(m => Moments.Contains(m.Text))
                .Select(m => (NoticeMoment)Moments.IndexOf(m.Text))
                .ToImmutableHashSet();
        return new NoticeRule(id, to, address, [.. people.Select(p => p.Text)], secret, at_, invitation);
    }

    private static MailSettings ReadMail(Node node, Findings findings)
    {
        var form = Form.Open(node, "mail", findings);
        var (host, from, account, password) = (
            form.Required("host"),
            form.Required("from"),
            form.Text("account"),
            form.Text("password")
        );
        if (password is not null && !password.StartsWith("secret:", StringComparison.Ordinal))
            findings.Add(
                "mail: 'password' is given as a reference",
                form.PlaceOf("password"),
                "Write secret:NAME and keep the value with 'tidestep secret set NAME'."
            );
        if ((account is null) != (password is null))
            findings.Add("mail: 'account' and 'password' belong together", form.At);
        var encryption = form.Word("encryption", "required", "none") != "none";
        if (!encryption && password is not null)
            findings.Add(
                "mail: a password is not sent over a connection without encryption",
                form.PlaceOf("encryption"),
                "Leave 'encryption' out, or the account."
            );
        var settings = new MailSettings(
            host,
            form.Count("port", 1) ?? (encryption ? 587 : 25),
            from,
            account,
            password,
            encryption
        );
        form.Close();
        return settings;
    }
}
