using TideStep.Core.Documents;

namespace TideStep.Service;

/// <summary>Pages of long lists: the answer is one page, and its Link header names the next one where there is more
/// (RFC 8288, rel="next").</summary>
public static class Pages
{
    /// <summary>How many lines a page has.</summary>
    /// <param name="asked">How many were asked for; null for the usual number.</param>
    public static int Size(int? asked, int usual = 50, int most = 500) => Math.Clamp(asked ?? usual, 1, most);

    /// <summary>A page out of lines of which one more than fits was fetched.</summary>
    /// <param name="found">At most one more than <paramref name="size"/>.</param>
    /// <param name="place">What names a line's place in the list.</param>
    public static IReadOnlyList<T> Of<T>(HttpContext http, IReadOnlyList<T> found, int size, Func<T, string> place)
    {
        if (found.Count <= size)
            return found;
        var query = http
            .Request.Query.Where(q => q.Key != "after")
            .SelectMany(q => q.Value.Select(v => KeyValuePair.Create(q.Key, v)))
            .Append(KeyValuePair.Create("after", (string?)place(found[size - 1])));
        http.Response.Headers.Link = $"<{http.Request.Path}{QueryString.Create(query)}>; rel=\"next\"";
        return [.. found.Take(size)];
    }

    /// <summary>A page out of a list that is there as a whole.</summary>
    /// <returns>The page, or null where nothing in the list has the place <paramref name="after"/>.</returns>
    public static IReadOnlyList<T>? Of<T>(
        HttpContext http,
        IReadOnlyList<T> all,
        string? after,
        int size,
        Func<T, string> place
    )
    {
        var from = 0;
        while (after is not null && from < all.Count && place(all[from]) != after)
            from++;
        if (after is not null && from++ == all.Count)
            return null;
        return Of(http, [.. all.Skip(from).Take(size + 1)], size, place);
    }

    /// <summary>What is said where a list has no such place.</summary>
    public static IResult NoPlace(string after) =>
        Answers.Problem(
            400,
            new Problem($"after: this list has no '{after}'", null, "Begin with its first page, without after.")
        );
}
