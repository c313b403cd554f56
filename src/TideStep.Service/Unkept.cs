using Microsoft.AspNetCore.Diagnostics;
using TideStep.Core.Documents;
using TideStep.Storage;

namespace TideStep.Service;

/// <summary>What can't be read or written where it is kept, as an answer that says what and what to do.</summary>
public sealed class Unkept : IExceptionHandler
{
    public async ValueTask<bool> TryHandleAsync(HttpContext http, Exception exception, CancellationToken ct)
    {
        if (Of(exception) is not { } answer)
            return false;
        await answer.ExecuteAsync(http);
        return true;
    }

    private static IResult? Of(Exception exception) =>
        exception switch
        {
            DamagedRecordException damaged => Answers.Problem(
                409,
                new Problem(
                    damaged.Message,
                    null,
                    "It is set aside and everything else works. A document is put right by importing it again; "
                        + "what else there is by bringing the database back from a backup of before."
                )
            ),
            ArchivedRunException archived => Answers.Problem(
                410,
                new Problem(
                    $"{archived.Message}; its report is",
                    null,
                    $"Read it: tidestep run report {archived.Run}, or /api/runs/{archived.Run}/report."
                )
            ),
            StoreUnavailableException { Full: true } full => Answers.Problem(
                507,
                new Problem(full.Message, null, "Make room where the database lies; runs go on by themselves then.")
            ),
            StoreUnavailableException gone => Answers.Problem(
                503,
                new Problem(gone.Message, null, "Runs go on from what is kept when the database answers again.")
            ),
            IOException { HResult: NoRoom } full => Answers.Problem(
                507,
                new Problem($"there is no room left: {full.Message}", null, "Make room in the data folder.")
            ),
            OutOfMemoryException => Answers.Problem(
                503,
                new Problem("there is too little memory for this", null, "Send less at a time, or give it more memory.")
            ),
            _ => null,
        };

    // ENOSPC as .NET on Linux gives it.
    private const int NoRoom = 28;
}
