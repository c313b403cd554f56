namespace TideStep.Core.Catalogue;

/// <summary>What puts an installed version into effect: the least restart that the jump to it needs.</summary>
public static class InEffect
{
    /// <summary>In words; a restart, where no jump leads from what runs to what is installed.</summary>
    /// <param name="product">The product.</param>
    /// <param name="running">What runs.</param>
    /// <param name="installed">What is installed.</param>
    public static string By(Product product, string running, string installed) =>
        product.Scheme.TryParse(running) is { } from
        && product.Scheme.TryParse(installed) is { } to
        && product.Jumps.FirstOrDefault(j => j.To.Equals(to) && j.LeadsFrom(from, product.IsRelease)) is { } jump
            ? jump.Restarts switch
            {
                RestartScope.Node => "a restart of the node",
                RestartScope.Reconnect => "a reconnection",
                RestartScope.Nothing => "its next start; nothing has to be restarted for it",
                _ => "a restart of the service",
            }
            : "a restart";
}
