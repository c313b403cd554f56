namespace TideStep.Service.Routes;

/// <summary>The guide that a service was started with. It is read each time: whoever starts a demo writes into it what
/// only then is known.</summary>
internal static class GuideRoute
{
    public static async Task<IResult> AnswerAsync(ServiceSettings settings, CancellationToken ct)
    {
        if (settings.Guide is not { } file)
            return Results.Problem("this service was started without a guide", statusCode: 404);
        try
        {
            return Results.Ok(new GuideView(await File.ReadAllTextAsync(file, ct)));
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            return Results.Problem($"the guide can't be read: {e.Message}", statusCode: 404);
        }
    }
}
