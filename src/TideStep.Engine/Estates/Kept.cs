using System.Text.Json;
using TideStep.Core.Documents;
using TideStep.Storage;

namespace TideStep.Engine.Estates;

/// <summary>Reads what is kept as JSON.</summary>
internal static class Kept
{
    /// <summary>The value of a kept text.</summary>
    /// <param name="what">What it is, for people.</param>
    /// <exception cref="DamagedRecordException">It is in no shape that this program knows: damaged, or
    /// newer.</exception>
    public static T Read<T>(string body, string what)
    {
        try
        {
            return KeptShape.First.Read<T>(body)
                ?? throw new DamagedRecordException($"{what} can't be read: it is empty");
        }
        catch (Exception e) when (e is JsonException or NotSupportedException or FormatException or ArgumentException)
        {
            throw new DamagedRecordException($"{what} can't be read: {e.Message}", e);
        }
    }

    /// <inheritdoc cref="Read{T}(string, string)"/>
    public static T Read<T>(StoredDocument document) =>
        Read<T>(document.Body, $"the {document.Kind} '{document.Id}', revision {document.Revision},");
}
