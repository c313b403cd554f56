namespace TideStep.Core.Versions;

/// <summary>Reads the open <c>vers:</c> range notation (Package-URL project, VERSION-RANGE-SPEC):
/// <c>vers:type/constraint|constraint</c>.</summary>
internal static class VersNotation
{
    public static VersionRange? TryParse(string text, VersionScheme scheme, out string? reason)
    {
        reason = null;
        var slash = text.IndexOf('/');
        if (slash < 0)
        {
            reason = "a vers: range is written vers:type/constraints";
            return null;
        }
        var body = Uri.UnescapeDataString(text[(slash + 1)..].Replace(" ", ""));
        if (body == "*")
            return VersionRange.Any;
        var constraints = new List<(string Sign, Version Bound)>();
        foreach (var piece in body.Split('|', StringSplitOptions.RemoveEmptyEntries))
        {
            var sign =
                piece.StartsWith(">=") || piece.StartsWith("<=") || piece.StartsWith("!=") ? piece[..2]
                : piece[0] is '<' or '>' or '=' ? piece[..1]
                : "";
            if (scheme.TryParse(piece[sign.Length..]) is not { } bound)
            {
                reason = $"'{piece[sign.Length..]}' is no version by this product's scheme";
                return null;
            }
            constraints.Add((sign, bound));
        }
        if (constraints.Count == 0)
        {
            reason = "a vers: range without constraints";
            return null;
        }
        return VersionRange.FromTerms(text, Alternatives(constraints));
    }

    // The notation lists constraints in version order; each lower bound pairs with the next upper bound, and what is
    // excluded by != splits the interval that holds it.
    private static List<List<(string Sign, Version Bound)>> Alternatives(List<(string Sign, Version Bound)> constraints)
    {
        constraints.Sort((a, b) => a.Bound.CompareTo(b.Bound));
        var found = new List<List<(string, Version)>>();
        List<(string, Version)>? open = null;
        var started = false;
        foreach (var (sign, bound) in constraints)
        {
            switch (sign)
            {
                case "" or "=":
                    found.Add([("=", bound)]);
                    break;
                case ">" or ">=":
                    open = [(sign, bound)];
                    started = true;
                    break;
                case "<" or "<=":
                    found.Add(open is null ? [(sign, bound)] : [.. open, (sign, bound)]);
                    open = null;
                    started = true;
                    break;
                case "!=" when open is not null || !started:
                    found.Add([.. open ?? [], ("<", bound)]);
                    open = [(">", bound)];
                    started = true;
                    break;
            }
        }
        if (open is not null)
            found.Add(open);
        return found;
    }
}
