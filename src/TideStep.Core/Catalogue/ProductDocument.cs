using System.Collections.Immutable;
using TideStep.Core.Documents;
using TideStep.Core.Versions;

namespace TideStep.Core.Catalogue;

/// <summary>Reads a <c>product/1</c> document, checked as a whole (10-formats).</summary>
public static class ProductDocument
{
    public const string Kind = "product/1";

    public static Checked<Product> Read(string text, string file)
    {
        var node = DocumentReader.Read(text, file);
        if (node.Value is null || !node.Problems.IsEmpty)
            return new Checked<Product>(null, node.Problems);
        var findings = new Findings();
        var form = Form.Open(node.Value, "the document", findings);
        DocumentKinds.Expect(form, Kind);
        var product = ReadProduct(form, findings);
        form.Close();
        return new Checked<Product>(findings.Any ? null : product, findings.All);
    }

    private static Product ReadProduct(Form form, Findings findings)
    {
        var head = Form.OpenOrWord(form.Node("product") ?? new TextNode("", form.At), "id", "product", findings);
        var id = head.Required("id");
        if (id.Length > 0)
            Form.CheckId(id, head.PlaceOf("id"), "product", findings);
        var title = head.Text("title") ?? id;
        var kind = head.Word("versions", "dotted", "semver", "deb", "rpm", "date", "listed") ?? "dotted";
        var early = head.Words("early-words").Select(w => w.Text).ToImmutableArray();
        var roles = head.Words("roles").Select(w => w.Text).ToImmutableArray();
        var voting = head.Words("voting");
        foreach (var (role, at) in voting)
            if (!roles.Contains(role))
                findings.Add($"product: voting role '{role}' is no role", at, Nearest.Hint(role, roles));
        var port = head.Count("port", 1);
        var services = head.Words("services").Select(w => w.Text).ToImmutableArray();
        if (services.Distinct().Count() != services.Length)
            findings.Add(
                "product: a service is named twice",
                head.PlaceOf("services"),
                "Name each once, in the order in which they are stopped."
            );
        VersionRange? needs = null;
        if (
            head.Text("needs") is { } asked
            && (needs = VersionRange.TryParse(asked, VersionScheme.Dotted, out var reason)) is null
        )
            findings.Add($"product: 'needs' is no range of Tide Step's versions: {reason}", head.PlaceOf("needs"));
        head.Close();

        var releaseNodes = form.Map("releases");
        var scheme = new VersionScheme(
            Enum.Parse<SchemeKind>(kind, ignoreCase: true),
            early,
            releaseNodes.Select(r => r.Key)
        );
        var releases = ReadReleases(releaseNodes, scheme, findings);
        var (steps, readings) = (
            StepDocument.ReadSteps(form, services, findings),
            CollectorDocument.Read(form, findings)
        );
        var routines = StepDocument.ReadRoutines(form, roles, steps, findings);
        var jumps = form.Map("jumps")
            .Select(j => JumpDocument.Read(j.Key, j.Value, j.At, scheme, steps, findings))
            .ToImmutableArray();
        foreach (var jump in jumps)
            if (releases.Length > 0 && jump.To is not null && releases.All(r => !r.Version.Equals(jump.To)))
                findings.Add(
                    $"jump {jump.Id}: leads to '{jump.To}', which is no release of {id}",
                    jump.Place,
                    Nearest.Hint(jump.To.Label, releases.Select(r => r.Label))
                );
        var asks = AskSpec.ReadAll(form, readings, findings);
        var rules = RuleDocument.Read(id, form, scheme, findings);
        StepDocument.CheckExpressions(steps, routines, jumps, releases, readings, findings);
        return new Product(
            id,
            title,
            scheme,
            roles,
            [.. voting.Select(v => v.Text)],
            releases,
            rules,
            jumps,
            routines,
            steps,
            readings
        )
        {
            Port = port,
            Needs = needs,
            Asks = asks,
            Services = services,
        };
    }

    private static ImmutableArray<Release> ReadReleases(
        ImmutableArray<(string Key, Node Value, Place At)> nodes,
        VersionScheme scheme,
        Findings findings
    )
    {
        var releases = ImmutableArray.CreateBuilder<Release>();
        foreach (var (label, value, at) in nodes)
        {
            var form = Form.Open(value is TextNode { Text: "" } ? null : value, $"release {label}", findings, at);
            var line = form.Word("line", "long-support", "standard", "preview") switch
            {
                "long-support" => ReleaseLine.LongSupport,
                "preview" => ReleaseLine.Preview,
                _ => ReleaseLine.Standard,
            };
            var version = scheme.TryParse(label);
            if (version is null)
                findings.Add($"release '{label}' is no version by this product's scheme", at);
            else if (releases.FirstOrDefault(r => r.Version.Equals(version)) is { } twin)
                findings.Add($"releases '{twin.Label}' and '{label}' compare equal", at, "Keep one of the two.");
            ImmutableArray<string> List(string key) => [.. form.Words(key).Select(w => w.Text)];
            var (parts, removes) = (ReadParts(form, label, findings), ReadRemoved(form, label, findings));
            var release = new Release(
                version!,
                line,
                form.Date("since"),
                form.Date("ends"),
                [.. parts.Select(p => p.Name)],
                List("brings"),
                [.. removes.Select(r => r.What)],
                List("changes")
            )
            {
                InUse = removes.Where(r => r.InUse is not null).ToImmutableDictionary(r => r.What, r => r.InUse!),
                Place = at,
                Problems = ReadProblems(form, label, findings),
                Deprecates = List("deprecates"),
                Origins = parts.Where(p => p.Was is not null).ToImmutableDictionary(p => p.Name, p => p.Was!),
            };
            if (version is not null)
                releases.Add(release);
            form.Close();
        }
        return [.. releases.OrderBy(r => r.Version)];
    }

    private static List<(string Name, string? Was)> ReadParts(Form release, string label, Findings findings)
    {
        var parts = new List<(string Name, string? Was)>();
        foreach (var node in release.List("parts"))
        {
            var form = Form.OpenOrWord(node, "name", $"a part of release {label}", findings);
            var name = form.Required("name");
            if (parts.Any(p => p.Name == name))
                findings.Add($"release {label}: the part '{name}' is named twice", node.At);
            else
                parts.Add((name, form.Text("was")));
            form.Close();
        }
        return parts;
    }

    private static List<(string What, Expressions.Expression? InUse)> ReadRemoved(
        Form release,
        string label,
        Findings findings
    )
    {
        var removed = new List<(string What, Expressions.Expression? InUse)>();
        foreach (var node in release.List("removes"))
        {
            var form = Form.OpenOrWord(node, "what", $"what release {label} removes", findings);
            var what = form.Required("what");
            if (removed.Any(r => r.What == what))
                findings.Add($"release {label}: removes '{what}' twice", node.At);
            else
                removed.Add((what, ExpressionText.Read(form, "in-use")));
            form.Close();
        }
        return removed;
    }

    private static ImmutableArray<KnownProblem> ReadProblems(Form release, string label, Findings findings)
    {
        var problems = ImmutableArray.CreateBuilder<KnownProblem>();
        foreach (var node in release.List("problems"))
        {
            var form = Form.OpenOrWord(node, "what", $"a problem of release {label}", findings);
            problems.Add(new KnownProblem(form.Required("what"), form.Text("prevent")));
            form.Close();
        }
        return problems.ToImmutable();
    }
}

/// <summary>The first line of every document names its kind.</summary>
internal static class DocumentKinds
{
    public static readonly string[] Known = ["estate/1", "product/1", "readings/1", "goal/1", "notices/1"];

    public static void Expect(Form form, string kind)
    {
        var found = form.Text("tidestep");
        if (found == kind)
            return;
        form.Findings.Add(
            found is null ? "the document does not say what it is" : $"this is '{found}', not {kind}",
            form.PlaceOf("tidestep"),
            found is null || Known.Contains(found)
                ? $"Its first line must be 'tidestep: {kind}'."
                : Nearest.Hint(found, Known)
        );
    }
}
