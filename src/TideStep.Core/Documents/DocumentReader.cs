using System.Collections.Immutable;
using System.Text;
using System.Text.Json;
using YamlDotNet.Core;
using YamlDotNet.Core.Events;

namespace TideStep.Core.Documents;

/// <summary>Reads YAML or JSON text into nodes with places. Aliases and tags are refused, depth and size are
/// bounded.</summary>
public static class DocumentReader
{
    /// <summary>The deepest nesting that is read.</summary>
    public const int DepthLimit = 40;

    /// <summary>The longest text that is read, in characters.</summary>
    public const int SizeLimit = 24 * 1024 * 1024;

    /// <summary>Reads one document; a text that begins like a JSON object is read as JSON.</summary>
    public static Checked<Node> Read(string text, string file)
    {
        if (text.Length > SizeLimit)
            return Failed($"the document is larger than {SizeLimit / 1024 / 1024} MiB", new Place(file, 1, 1));
        try
        {
            return LooksLikeJson(text) ? new JsonNodes(text, file).Read() : new YamlNodes(text, file).Read();
        }
        catch (TooManyException e)
        {
            return Failed($"more than {NodeLimit} keys and values", e.At, "Split the document.");
        }
        catch (YamlException e)
        {
            return Failed(
                e.InnerException?.Message ?? e.Message,
                new Place(file, (int)Math.Max(1, e.Start.Line), (int)Math.Max(1, e.Start.Column)),
                "Check indentation and quotes near this place."
            );
        }
        catch (InvalidOperationException)
        {
            // The library's scanner gives up so where brackets and braces do not match; it knows no place.
            return Failed(
                "not readable as YAML",
                new Place(file, 1, 1),
                "A bracket or brace is opened and not closed, or closed and not opened, somewhere in this document."
            );
        }
        catch (JsonException e)
        {
            return Failed(
                "not readable as JSON",
                new Place(file, (int)(e.LineNumber ?? 0) + 1, (int)(e.BytePositionInLine ?? 0) + 1),
                e.Message.Split(" LineNumber")[0]
            );
        }
    }

    private static bool LooksLikeJson(string text)
    {
        var start = text.AsSpan().TrimStart("\uFEFF \t\r\n");
        if (start.Length == 0 || start[0] != '{')
            return false;
        var inner = start[1..].TrimStart();
        return inner.Length > 0 && inner[0] is '"' or '}';
    }

    /// <summary>How long one text of a document may be, in characters.</summary>
    public const int TextLimit = 64 * 1024;

    /// <summary>How many keys and values are read.</summary>
    public const int NodeLimit = 1_000_000;

    internal sealed class TooManyException(Place at) : Exception
    {
        public Place At { get; } = at;
    }

    internal static Problem TooLong(int length, Place at) =>
        new($"a text of {length} characters", null, $"At most {TextLimit} are read as one.", at);

    internal static Checked<Node> Failed(string what, Place at, string? hint = null) =>
        new(null, [new Problem(what, null, hint, at)]);
}

internal sealed class YamlNodes(string text, string file)
{
    private readonly Parser _parser = new(new StringReader(text));
    private readonly Findings _problems = new();
    private int _nodes;

    public Checked<Node> Read()
    {
        _parser.Consume<StreamStart>();
        if (!_parser.TryConsume<DocumentStart>(out _))
            return DocumentReader.Failed("the document is empty", new Place(file, 1, 1));
        var node = ReadNode(0);
        _parser.Consume<DocumentEnd>();
        if (_parser.TryConsume<DocumentStart>(out var second))
            _problems.Add(
                new Problem(
                    "a second document in one file",
                    null,
                    "Put each document in a file of its own.",
                    At(second.Start)
                )
            );
        return new Checked<Node>(node, _problems.All);
    }

    private Place At(Mark mark) => new(file, (int)mark.Line, (int)mark.Column);

    private Node ReadNode(int depth)
    {
        var current = _parser.Current!;
        if (++_nodes > DocumentReader.NodeLimit)
            throw new DocumentReader.TooManyException(At(current.Start));
        if (depth > DocumentReader.DepthLimit)
            throw new YamlException(
                current.Start,
                current.End,
                $"nested deeper than {DocumentReader.DepthLimit} levels"
            );
        if (current is NodeEvent { Tag.IsEmpty: false } tagged && !tagged.Tag.IsNonSpecific)
            _problems.Add(
                new Problem("tags such as !x are not read here", null, "Write the plain value.", At(current.Start))
            );
        if (current is NodeEvent { Anchor.IsEmpty: false } && current is not AnchorAlias)
            _problems.Add(
                new Problem(
                    "anchors and aliases are not read here",
                    null,
                    "Write the value out at each place.",
                    At(current.Start)
                )
            );
        if (_parser.TryConsume<Scalar>(out var scalar))
        {
            if (scalar.Value.Length <= DocumentReader.TextLimit)
                return new TextNode(scalar.Value, At(scalar.Start));
            _problems.Add(DocumentReader.TooLong(scalar.Value.Length, At(scalar.Start)));
            return new TextNode("", At(scalar.Start));
        }
        if (_parser.TryConsume<SequenceStart>(out var list))
        {
            var items = ImmutableArray.CreateBuilder<Node>();
            while (!_parser.TryConsume<SequenceEnd>(out _))
                items.Add(ReadNode(depth + 1));
            return new ListNode(items.ToImmutable(), At(list.Start));
        }
        if (_parser.TryConsume<MappingStart>(out var map))
        {
            var entries = new MapEntries(_problems);
            while (!_parser.TryConsume<MappingEnd>(out _))
            {
                var key = ReadNode(depth + 1);
                entries.Add(key, ReadNode(depth + 1));
            }
            return entries.ToNode(At(map.Start));
        }
        var alias = _parser.Consume<AnchorAlias>();
        _problems.Add(
            new Problem(
                "anchors and aliases are not read here",
                null,
                "Write the value out at each place.",
                At(alias.Start)
            )
        );
        return new TextNode("", At(alias.Start));
    }
}

internal sealed class MapEntries(Findings problems)
{
    private readonly ImmutableArray<(TextNode, Node)>.Builder _entries = ImmutableArray.CreateBuilder<(
        TextNode,
        Node
    )>();
    private readonly HashSet<string> _seen = [];

    public void Add(Node key, Node value)
    {
        if (key is not TextNode text)
            problems.Add(new Problem("a key must be plain text", null, null, key.At));
        else if (!_seen.Add(text.Text))
            problems.Add(new Problem($"'{text.Text}' stands here twice", null, "Keep one of the two.", text.At));
        else
            _entries.Add((text, value));
    }

    public MapNode ToNode(Place at) => new(_entries.ToImmutable(), at);
}

internal sealed class JsonNodes(string text, string file)
{
    private readonly byte[] _bytes = Encoding.UTF8.GetBytes(text.TrimStart('\uFEFF'));
    private readonly Findings _problems = new();
    private int _nodes;
    private int _line = 1;
    private long _lineStart;
    private long _seen;

    public Checked<Node> Read()
    {
        var reader = new Utf8JsonReader(_bytes, new JsonReaderOptions { MaxDepth = DocumentReader.DepthLimit });
        reader.Read();
        var node = ReadNode(ref reader);
        if (reader.Read())
            _problems.Add(new Problem("text after the end of the document", null, null, At(ref reader)));
        return new Checked<Node>(node, _problems.All);
    }

    private Place At(ref Utf8JsonReader reader)
    {
        for (; _seen < reader.TokenStartIndex; _seen++)
            if (_bytes[_seen] == (byte)'\n')
                (_line, _lineStart) = (_line + 1, _seen + 1);
        return new Place(file, _line, (int)(reader.TokenStartIndex - _lineStart) + 1);
    }

    private Node ReadNode(ref Utf8JsonReader reader)
    {
        var at = At(ref reader);
        if (++_nodes > DocumentReader.NodeLimit)
            throw new DocumentReader.TooManyException(at);
        switch (reader.TokenType)
        {
            case JsonTokenType.StartArray:
                var items = ImmutableArray.CreateBuilder<Node>();
                while (reader.Read() && reader.TokenType != JsonTokenType.EndArray)
                    items.Add(ReadNode(ref reader));
                return new ListNode(items.ToImmutable(), at);
            case JsonTokenType.StartObject:
                var entries = new MapEntries(_problems);
                while (reader.Read() && reader.TokenType != JsonTokenType.EndObject)
                {
                    var key = new TextNode(reader.GetString()!, At(ref reader));
                    reader.Read();
                    entries.Add(key, ReadNode(ref reader));
                }
                return entries.ToNode(at);
            case JsonTokenType.String when reader.ValueSpan.Length > DocumentReader.TextLimit:
                _problems.Add(DocumentReader.TooLong(reader.ValueSpan.Length, at));
                return new TextNode("", at);
            case JsonTokenType.String:
                return new TextNode(reader.GetString()!, at);
            case JsonTokenType.Null:
                return new TextNode("", at);
            default:
                return new TextNode(Encoding.UTF8.GetString(reader.ValueSpan), at);
        }
    }
}
