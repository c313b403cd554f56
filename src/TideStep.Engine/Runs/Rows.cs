using TideStep.Storage;

namespace TideStep.Engine.Runs;

/// <summary>Rows of lists are copies of what the journal tells: where one can't be written, whoever asked is answered
/// all the same, and it is made anew the next time.</summary>
internal static class Rows
{
    public static async Task KeepAsync(Func<Task> save)
    {
        try
        {
            await save();
        }
        catch (StoreUnavailableException)
        { /* no room, or the database is gone: what was read is whole without it */
        }
    }
}
