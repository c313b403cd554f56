using System.Collections.Immutable;
using TideStep.Core.Catalogue;
using TideStep.Core.Documents;
using TideStep.Core.Estates;

namespace TideStep.Cli;

/// <summary>Reads documents from files, with no service at all; all problems of all files come at once.</summary>
public static class Files
{
    /// <summary>The estate, what was read of it (nothing where no file is named) and the catalogue.</summary>
    public static EstateIndex Index(string estateFile, string? readingsFile, string catalogueFolder)
    {
        var problems = new List<Problem>();
        var estate = EstateDocument.Read(Text(estateFile, problems), estateFile);
        problems.AddRange(estate.Problems);
        var products = CatalogueFiles(catalogueFolder, problems)
            .Select(f => ProductDocument.Read(Text(f, problems), f))
            .ToList();
        problems.AddRange(products.SelectMany(p => p.Problems));
        var catalogue = ProductCatalogue.Create(products.Select(p => p.Value).OfType<Product>());
        problems.AddRange(catalogue.Problems);
        Checked<Readings>? readings = null;
        if (readingsFile is null)
            readings = new Checked<Readings>(
                new Readings(default, ImmutableDictionary<string, MemberReading>.Empty),
                []
            );
        else if (estate.Value is { } read)
        {
            readings = ReadingsDocument.Read(Text(readingsFile, problems), readingsFile, read);
            problems.AddRange(readings.Problems);
        }
        if (problems.Count > 0)
            throw new MisusedException(problems);
        return new EstateIndex(estate.Value!, readings!.Value!, catalogue.Value!);
    }

    /// <summary>The catalogue of a folder.</summary>
    public static ProductCatalogue Products(string folder)
    {
        var problems = new List<Problem>();
        var products = CatalogueFiles(folder, problems)
            .Select(f => ProductDocument.Read(Text(f, problems), f))
            .ToList();
        var catalogue = ProductCatalogue.Create(products.Select(p => p.Value).OfType<Product>());
        problems.AddRange(products.SelectMany(p => p.Problems).Concat(catalogue.Problems));
        return problems.Count > 0 ? throw new MisusedException(problems) : catalogue.Value!;
    }

    public static Goal Goal(string file)
    {
        var problems = new List<Problem>();
        var goal = GoalDocument.Read(Text(file, problems), file);
        if (problems.Count == 0)
            problems.AddRange(goal.Problems);
        return problems.Count > 0 ? throw new MisusedException(problems) : goal.Value!;
    }

    /// <summary>The documents of a folder, or the file itself, in the order of their names.</summary>
    public static IEnumerable<string> CatalogueFiles(string path, List<Problem> problems)
    {
        if (File.Exists(path))
            return [path];
        if (Directory.Exists(path))
            return Directory
                .EnumerateFiles(path)
                .Where(f => Path.GetExtension(f) is ".yaml" or ".yml" or ".json")
                .Order(StringComparer.Ordinal);
        problems.Add(new Problem($"there is no file or folder {path}"));
        return [];
    }

    public static byte[] Bytes(string path)
    {
        try
        {
            return File.ReadAllBytes(path);
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            throw new MisusedException([new Problem($"{path} can't be read", e.Message)]);
        }
    }

    public static string Text(string path, List<Problem> problems)
    {
        try
        {
            return path == "-" ? Console.In.ReadToEnd() : File.ReadAllText(path);
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            problems.Add(new Problem($"{path} can't be read", e.Message));
            return "tidestep: none";
        }
    }
}
