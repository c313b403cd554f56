using Xunit;

namespace TideStep.Tests;

/// <summary>One demo stack for all tests of a class.</summary>
public sealed class StackFixture : IAsyncLifetime
{
    public DemoStack Stack { get; private set; } = null!;

    public async ValueTask InitializeAsync() => Stack = await DemoStack.StartAsync();

    public ValueTask DisposeAsync() => Stack is null ? ValueTask.CompletedTask : Stack.DisposeAsync();
}
