using System.Collections.Immutable;

namespace TideStep.Core.Documents;

/// <summary>A piece of a document with its place; scalars are kept as the text that stands there.</summary>
public abstract record Node(Place At);

/// <summary>A scalar: <c>6.10</c> stays 6.10 and <c>on</c> stays on.</summary>
public sealed record TextNode(string Text, Place At) : Node(At);

/// <summary>A list of nodes.</summary>
public sealed record ListNode(ImmutableArray<Node> Items, Place At) : Node(At);

/// <summary>A map in the order written; keys are unique.</summary>
public sealed record MapNode(ImmutableArray<(TextNode Key, Node Value)> Entries, Place At) : Node(At);
