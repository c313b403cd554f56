using System.Collections.Immutable;
using System.Globalization;
using System.Text.RegularExpressions;
using TideStep.Core.Versions;

namespace TideStep.Core.Documents;

/// <summary>Collects every problem of a document while its parts are read.</summary>
public sealed class Findings
{
    /// <summary>How many problems are told; what comes after them is counted only.</summary>
    public const int Most = 500;

    private readonly List<Problem> _problems = [];
    private int _more;

    public void Add(string what, Place? at, string? hint = null, string? detail = null) =>
        Add(new Problem(what, detail, hint, at));

    public void AddRange(IEnumerable<Problem> problems)
    {
        foreach (var problem in problems)
            Add(problem);
    }

    public void Add(Problem problem)
    {
        if (_problems.Count < Most)
            _problems.Add(problem);
        else
            _more++;
    }

    public bool Any => _problems.Count > 0;

    /// <summary>Whether no further problem is told by itself.</summary>
    public bool Full => _problems.Count == Most;

    /// <summary>All problems in the order of their places, and how many more there are.</summary>
    public ImmutableArray<Problem> All =>
        [
            .. _problems
                .OrderBy(p => p.At?.File, StringComparer.Ordinal)
                .ThenBy(p => p.At?.Line)
                .ThenBy(p => p.At?.Column),
            .. _more == 0 ? [] : (Problem[])[new Problem($"{_more} more", null, "Mend these first.")],
        ];
}

/// <summary>A map being read: each key is asked for by name, unknown keys are errors with the nearest valid
/// word.</summary>
public sealed partial class Form
{
    private readonly Dictionary<string, (TextNode Key, Node Value)> _entries = [];
    private readonly HashSet<string> _asked = [];

    private Form(Findings findings, Place at, string what) => (Findings, At, What) = (findings, at, what);

    public Findings Findings { get; }
    public Place At { get; }

    /// <summary>What the map describes, for messages: "component ledger".</summary>
    public string What { get; }

    /// <summary>Opens a node as a map; something else is a problem and reads as an empty map.</summary>
    public static Form Open(Node? node, string what, Findings findings, Place? fallback = null)
    {
        var form = new Form(findings, node?.At ?? fallback ?? new Place("", 1, 1), what);
        if (node is MapNode map)
            foreach (var entry in map.Entries)
                form._entries[entry.Key.Text] = entry;
        else if (node is not null)
            findings.Add($"{what}: expected a map of keys and values", node.At);
        return form;
    }

    /// <summary>Opens a node that may also be a single word, which then stands for <paramref name="key"/>.</summary>
    public static Form OpenOrWord(Node node, string key, string what, Findings findings)
    {
        if (node is not TextNode text)
            return Open(node, what, findings);
        var form = new Form(findings, node.At, what);
        form._entries[key] = (new TextNode(key, node.At), text);
        return form;
    }

    public bool Has(string key) => _entries.ContainsKey(key);

    public Place PlaceOf(string key) => _entries.TryGetValue(key, out var entry) ? entry.Value.At : At;

    public Node? Node(string key)
    {
        _asked.Add(key);
        return _entries.TryGetValue(key, out var entry) ? entry.Value : null;
    }

    public string? Text(string key)
    {
        var node = Node(key);
        if (node is TextNode text)
            return text.Text.Length == 0 ? null : text.Text;
        if (node is not null)
            Findings.Add($"{What}: '{key}' must be plain text", node.At);
        return null;
    }

    public string Required(string key)
    {
        if (Text(key) is { } text)
            return text;
        if (Node(key) is null or TextNode)
            Findings.Add($"{What}: '{key}' is missing", At, $"Add '{key}: ...'.");
        return "";
    }

    public string? Word(string key, params ReadOnlySpan<string> valid)
    {
        var text = Text(key);
        if (text is null || valid.Contains(text))
            return text;
        Findings.Add($"{What}: '{text}' is no valid {key}", PlaceOf(key), Nearest.Hint(text, valid.ToArray()));
        return null;
    }

    public bool Flag(string key, bool otherwise = false)
    {
        switch (Text(key))
        {
            case null:
                return otherwise;
            case "true" or "yes":
                return true;
            case "false" or "no":
                return false;
            default:
                Findings.Add($"{What}: '{key}' must be true or false", PlaceOf(key));
                return otherwise;
        }
    }

    public int? Count(string key, int least = 0)
    {
        if (Text(key) is not { } text)
            return null;
        if (int.TryParse(text, NumberStyles.None, CultureInfo.InvariantCulture, out var number) && number >= least)
            return number;
        Findings.Add($"{What}: '{key}' must be a whole number of at least {least}, not '{text}'", PlaceOf(key));
        return null;
    }

    public DateOnly? Date(string key)
    {
        if (Text(key) is not { } text)
            return null;
        if (DateOnly.TryParseExact(text, "yyyy-MM-dd", CultureInfo.InvariantCulture, DateTimeStyles.None, out var date))
            return date;
        Findings.Add($"{What}: '{key}' must be a date like 2027-05-31, not '{text}'", PlaceOf(key));
        return null;
    }

    public TimeSpan? Duration(string key)
    {
        if (Text(key) is not { } text)
            return null;
        if (Durations.TryParse(text) is { } span)
            return span;
        Findings.Add($"{What}: '{key}' must be a duration like 90 s, 6 min or 1 h 30 min, not '{text}'", PlaceOf(key));
        return null;
    }

    public ImmutableArray<Node> List(string key)
    {
        var node = Node(key);
        if (node is ListNode list)
            return list.Items;
        if (node is null or TextNode { Text: "" })
            return [];
        if (node is TextNode)
            return [node];
        Findings.Add($"{What}: '{key}' must be a list", node.At);
        return [];
    }

    public ImmutableArray<(string Text, Place At)> Words(string key)
    {
        var words = ImmutableArray.CreateBuilder<(string, Place)>();
        foreach (var item in List(key))
        {
            if (item is TextNode text)
                words.Add((text.Text, text.At));
            else
                Findings.Add($"{What}: every item of '{key}' must be plain text", item.At);
        }
        return words.ToImmutable();
    }

    public ImmutableArray<(string Key, Node Value, Place At)> Map(string key)
    {
        switch (Node(key))
        {
            case MapNode map:
                return [.. map.Entries.Select(e => (e.Key.Text, e.Value, e.Key.At))];
            case null or TextNode { Text: "" }:
                return [];
            case { } other:
                Findings.Add($"{What}: '{key}' must be a map", other.At);
                return [];
        }
    }

    public Core.Versions.Version? Version(string key, VersionScheme scheme)
    {
        if (Text(key) is not { } text)
            return null;
        if (scheme.TryParse(text) is { } version)
            return version;
        Findings.Add($"{What}: '{text}' is no version by this product's scheme", PlaceOf(key));
        return null;
    }

    public VersionRange? Range(string key, VersionScheme scheme)
    {
        if (Text(key) is not { } text)
            return null;
        if (VersionRange.TryParse(text, scheme, out var reason) is { } range)
            return range;
        Findings.Add(
            $"{What}: '{key}' is no range: {reason}",
            PlaceOf(key),
            "Ranges look like '>=5.2 <7', '6.1.x', '6.1.4' or '*'."
        );
        return null;
    }

    /// <summary>Every key not asked for is an error; call when all known keys were read.</summary>
    public void Close()
    {
        foreach (var (key, entry) in _entries)
            if (!_asked.Contains(key))
                Findings.Add(
                    $"{What}: '{key}' is no key here",
                    entry.Key.At,
                    Findings.Full ? null : Nearest.Hint(key, _asked)
                );
    }

    /// <summary>An identifier of our documents: lower-case letters, digits, hyphens and dots; it begins with a letter
    /// or digit.</summary>
    [GeneratedRegex("^[a-z0-9][a-z0-9.-]{0,99}$")]
    public static partial Regex Identifier();

    /// <summary>Checks an identifier and says what is wrong with it.</summary>
    public static void CheckId(string id, Place at, string what, Findings findings)
    {
        if (!Identifier().IsMatch(id))
            findings.Add(
                $"{what}: '{id}' is no identifier",
                at,
                "Use lower-case letters, digits, hyphens and dots, at most 100."
            );
    }
}
