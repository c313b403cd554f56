using System.Collections.Immutable;
using System.Reflection;
using System.Text.Json.Serialization;

namespace TideStep.Tests;

/// <summary>A value of any of our types in which everything is set, to something else than it is unset.</summary>
internal static class Samples
{
    /// <summary>The folder of the repository.</summary>
    public static string Root { get; } = FindRoot();

    /// <summary>A value of a type; the same each time.</summary>
    public static object? Of(Type type, int depth = 0)
    {
        if (Nullable.GetUnderlyingType(type) is { } inner)
            return Of(inner, depth);
        if (type.IsEnum)
            return Enum.GetValues(type).Cast<object>().Last();
        if (Simple(type) is { } simple)
            return simple;
        // What holds itself ends somewhere.
        if (depth > 4)
            return null;
        if (type.IsGenericType)
            return Collection(type, depth);
        var its = type.GetCustomAttributes<JsonDerivedTypeAttribute>(inherit: false).FirstOrDefault()?.DerivedType
            ?? type;
        return Made(its, depth);
    }

    private static object? Simple(Type type) =>
        type == typeof(string) ? "said"
        : type == typeof(bool) ? true
        : type == typeof(int) ? 7
        : type == typeof(long) ? 7L
        : type == typeof(double) ? 1.5
        : type == typeof(decimal) ? 1.5m
        : type == typeof(TimeSpan) ? TimeSpan.FromSeconds(61)
        : type == typeof(DateTimeOffset) ? DateTimeOffset.UnixEpoch.AddSeconds(61)
        : type == typeof(DateOnly) ? DateOnly.FromDateTime(DateTime.UnixEpoch)
        : null;

    private static object? Collection(Type type, int depth)
    {
        var parts = type.GetGenericArguments();
        if (type.Name.StartsWith("ImmutableArray", StringComparison.Ordinal))
            return Make(nameof(ArrayOf), parts, Of(parts[0], depth + 1));
        if (type.Name.Contains("Dictionary", StringComparison.Ordinal))
            return Make(nameof(MapOf), [parts[1]], Of(parts[1], depth + 1));
        return Make(nameof(ListOf), parts, Of(parts[0], depth + 1));
    }

    private static object? Make(string method, Type[] types, object? item) =>
        typeof(Samples)
            .GetMethod(method, BindingFlags.NonPublic | BindingFlags.Static)!
            .MakeGenericMethod(types)
            .Invoke(null, [item]);

    private static ImmutableArray<T> ArrayOf<T>(T item) => item is null ? [] : [item];

    private static ImmutableSortedDictionary<string, T> MapOf<T>(T item) =>
        item is null
            ? ImmutableSortedDictionary<string, T>.Empty
            : ImmutableSortedDictionary<string, T>.Empty.Add("name", item);

    private static List<T> ListOf<T>(T item) => item is null ? [] : [item];

    private static object Made(Type type, int depth)
    {
        var constructor = type.GetConstructors().MaxBy(c => c.GetParameters().Length)!;
        var made = constructor.Invoke([.. constructor.GetParameters().Select(p => Of(p.ParameterType, depth + 1))]);
        var given = constructor.GetParameters().Select(p => p.Name).ToHashSet(StringComparer.OrdinalIgnoreCase);
        foreach (var property in type.GetProperties().Where(p => p.CanWrite && !given.Contains(p.Name)))
            property.SetValue(made, Of(property.PropertyType, depth + 1));
        return made;
    }

    private static string FindRoot()
    {
        var at = AppContext.BaseDirectory;
        while (!File.Exists(Path.Combine(at, "TideStep.slnx")))
            at = Path.GetDirectoryName(at)!;
        return at;
    }
}
