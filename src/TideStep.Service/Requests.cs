using System.Text.Json;
using System.Text.Json.Serialization.Metadata;
using Microsoft.AspNetCore.Diagnostics;
using Microsoft.AspNetCore.Http.Json;
using Microsoft.Net.Http.Headers;
using TideStep.Core.Documents;

namespace TideStep.Service;

/// <summary>How requests are read: what must be there is there before a route sees it, and what can't be read is
/// answered with the place in it.</summary>
public sealed class Requests : IExceptionHandler
{
    public static void Configure(IServiceCollection services) =>
        services
            .Configure<RouteHandlerOptions>(routes => routes.ThrowOnBadRequest = true)
            .AddExceptionHandler<Requests>()
            .Configure<JsonOptions>(options => Strict(Json.Configure(options.SerializerOptions)));

    // A value is required where a type says so; only of what comes in: what goes out is ours.
    private static void Strict(JsonSerializerOptions options)
    {
        options.RespectNullableAnnotations = true;
        options.TypeInfoResolver = (options.TypeInfoResolver ?? new DefaultJsonTypeInfoResolver()).WithAddedModifier(
            type =>
            {
                foreach (var property in type.Properties.Where(p => !p.PropertyType.IsValueType))
                {
                    property.IsGetNullable = true;
                    property.IsRequired = property.AssociatedParameter is { HasDefaultValue: false, IsNullable: false };
                }
            }
        );
    }

    /// <summary>Refuses a body in a charset that nobody knows, before a route reads it.</summary>
    public static async Task KnownCharset(HttpContext http, RequestDelegate next)
    {
        if (
            MediaTypeHeaderValue.TryParse(http.Request.ContentType, out var type)
            && type.Charset is { HasValue: true } charset
            && type.Encoding is null
        )
            await Answers
                .Problem(
                    StatusCodes.Status415UnsupportedMediaType,
                    new Problem($"'{charset}' is no charset that is known", null, "Send UTF-8.")
                )
                .ExecuteAsync(http);
        else
            await next(http);
    }

    public async ValueTask<bool> TryHandleAsync(HttpContext http, Exception exception, CancellationToken ct)
    {
        if (exception is not BadHttpRequestException bad)
            return false;
        await Answers.Problem(bad.StatusCode, Of(bad)).ExecuteAsync(http);
        return true;
    }

    private static Problem Of(BadHttpRequestException bad) =>
        bad.InnerException is JsonException json
            ? new Problem(
                $"the request can't be read{(json.Path is { Length: > 1 } path ? $" at {path}" : "")}",
                Sentence(json),
                "See /openapi/v1.json for what it has to be."
            )
            : new Problem(bad.Message, null, "See /openapi/v1.json for what it has to be.");

    // The library's text names our types, and its own place after them.
    private static string Sentence(JsonException json) =>
        json.Message.Split(" Path: ")[0] + (json.LineNumber is { } line ? $" (line {line + 1})" : "");
}
