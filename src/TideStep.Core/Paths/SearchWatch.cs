namespace TideStep.Core.Paths;

/// <summary>What a search tells of itself while it runs, and the word to stop it. One writes and others may read at the
/// same time.</summary>
public sealed class SearchWatch
{
    private long _looked;
    private volatile string _doing = "begins";
    private volatile bool _stopped;

    /// <summary>How many states and sets were looked at up to now.</summary>
    public long Looked => Interlocked.Read(ref _looked);

    /// <summary>What is being looked for, in words.</summary>
    public string Doing => _doing;

    /// <summary>Whether the search was told to stop.</summary>
    public bool Stopped => _stopped;

    /// <summary>Tells the search to end with what it has.</summary>
    public void Stop() => _stopped = true;

    internal void Begins(string what) => _doing = what;

    /// <summary>Counts one more; false where the search is to end.</summary>
    internal bool Goes()
    {
        Interlocked.Increment(ref _looked);
        return !_stopped;
    }
}
