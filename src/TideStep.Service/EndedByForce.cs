using System.Diagnostics;
using System.Reflection;
using TideStep.Connectors;
using TideStep.Core.Runs;

namespace TideStep.Service;

/// <summary>Ends this process by force at a chosen moment: what is left must be enough to go on from. For trying that
/// on the real service, by the environment variable <c>TIDESTEP_ENDS</c>:
/// <c>append:3</c> when the third entry is durable, <c>sent:1</c> when the first attempt is on its way to the far side,
/// <c>accepted:1</c> when the far side has taken it, <c>done:NAME</c> when it is durable that a step of that name is
/// done; looks at rollback points, which change nothing, do not count. Unset, nothing stands in any way.</summary>
public class EndedByForce : DispatchProxy
{
    private object _target = null!;
    private (string When, int Left, string Name) _end;

    /// <summary>The same, watched; the thing itself where nothing is to end.</summary>
    /// <param name="target">A journal, or a connector.</param>
    public static T Watching<T>(T target)
        where T : class
    {
        if (
            Environment.GetEnvironmentVariable("TIDESTEP_ENDS")?.Split(':') is not [var when, var count]
            || (!int.TryParse(count, out var left) && when != "done")
        )
            return target;
        var proxy = Create<T, EndedByForce>();
        var its = (EndedByForce)(object)proxy;
        (its._target, its._end) = (target, (when, left, count));
        return proxy;
    }

    protected override object? Invoke(MethodInfo? targetMethod, object?[]? args)
    {
        var name = targetMethod!.Name;
        object? answer;
        try
        {
            answer = targetMethod.Invoke(_target, args);
        }
        catch (TargetInvocationException e)
        {
            throw e.InnerException!;
        }
        if (
            !(
                _end.When switch
                {
                    "append" => name == "AppendAsync",
                    "done" => name == "AppendAsync"
                        && args!
                            .OfType<IReadOnlyList<RunEvent>>()
                            .Any(e =>
                                e.OfType<StepDone>()
                                    .Any(s => s.Step.EndsWith("/" + _end.Name, StringComparison.Ordinal))
                            ),
                    "sent" or "accepted" => name == "BeginAsync"
                        && args!
                            .OfType<FencedAttempt>()
                            .Any(a => a.Action.Verb is not ("check-point" or "discard-point")),
                    _ => false,
                }
            )
        )
            return answer;
        // What is counted is durable, or taken, before the process ends; what was only sent is left as it is.
        if (_end.When != "sent" && answer is Task task)
        {
            try
            {
                task.GetAwaiter().GetResult();
            }
            catch (Exception)
            {
                return answer;
            }
        }
        if (Interlocked.Decrement(ref _end.Left) <= 0)
            Process.GetCurrentProcess().Kill();
        return answer;
    }
}
