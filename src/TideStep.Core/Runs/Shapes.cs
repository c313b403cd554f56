using System.Security.Cryptography;
using System.Text;

namespace TideStep.Core.Runs;

/// <summary>What tells the shape of a copy that this program keeps from that of every other program: a digest over the
/// names and types of everything that is in it. A copy of another shape is made anew.</summary>
public static class Shapes
{
    /// <summary>The shape of a type.</summary>
    public static string Of<T>() => Of([("", typeof(T))]);

    /// <summary>The shape of several parts with their names.</summary>
    public static string Of(IEnumerable<(string Name, Type Type)> parts)
    {
        var (text, seen) = (new StringBuilder(), new HashSet<Type>());
        foreach (var (name, type) in parts)
        {
            text.Append(name).Append(' ');
            Describe(type, text, seen);
        }
        return Convert.ToHexStringLower(SHA256.HashData(Encoding.UTF8.GetBytes(text.ToString())))[..16];
    }

    // Every type of ours that is in it, with all of its properties.
    private static void Describe(Type type, StringBuilder text, HashSet<Type> seen)
    {
        // Of a type with parts the name alone would hold the versions of the libraries that they are in.
        text.Append(type.Namespace).Append('.').Append(type.Name).Append('\n');
        foreach (var part in type.GetGenericArguments())
            Describe(part, text, seen);
        if (type.GetElementType() is { } element)
            Describe(element, text, seen);
        if (type.Assembly != typeof(RunState).Assembly || !seen.Add(type))
            return;
        if (type.IsEnum)
            text.AppendJoin(' ', Enum.GetNames(type)).Append('\n');
        foreach (var property in type.GetProperties().OrderBy(p => p.Name, StringComparer.Ordinal))
        {
            text.Append(property.Name).Append(' ');
            Describe(property.PropertyType, text, seen);
        }
    }
}
