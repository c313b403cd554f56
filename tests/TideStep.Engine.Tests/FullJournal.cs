using System.Reflection;
using TideStep.Storage;

namespace TideStep.Engine.Tests;

/// <summary>A journal on a disk that can be full: then nothing is appended and no run is taken, and all else is as it
/// was.</summary>
public class FullJournal : DispatchProxy
{
    private IJournal _inner = null!;

    /// <summary>Whether there is no room.</summary>
    public bool Full { get; set; }

    /// <summary>The journal, and what fills it.</summary>
    public static (IJournal Journal, FullJournal Disk) Of(IJournal inner)
    {
        var journal = Create<IJournal, FullJournal>();
        var disk = (FullJournal)(object)journal;
        disk._inner = inner;
        return (journal, disk);
    }

    protected override object? Invoke(MethodInfo? method, object?[]? arguments) =>
        Full && (method!.Name is nameof(IJournal.AppendAsync) or nameof(IJournal.TakeOwnershipAsync))
            ? throw new StoreUnavailableException("the database can't be written: the disk is full", new IOException())
            : method!.Invoke(_inner, arguments);
}
