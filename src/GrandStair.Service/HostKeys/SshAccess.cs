using GrandStair.Connections.Ssh;
using GrandStair.Core.Access;
using GrandStair.Core.Readings;
using GrandStair.Engine.Clocks;
using GrandStair.Service.Secrets;
using GrandStair.Storage.Fleet;

namespace GrandStair.Service.HostKeys;

/// <summary>Tells the SSH connection which key to log in with, and whether a host key that nobody pinned is trusted.</summary>
internal sealed class SshAccess(SecretStore secrets, FirstUseTable firstUse, FleetTable fleet, DomainClock clock) : ISshAccess
{
    public Task<SshKey> KeyAsync(string? name, CancellationToken stop) => secrets.SshKeyAsync(name, stop);

    public async Task<bool> TrustsFirstUseAsync(Machine machine, CancellationToken stop) =>
        machine.Site.Length > 0
        && (await firstUse.AllAsync(stop)).Any(f => f.Site.Equals(machine.Site, StringComparison.OrdinalIgnoreCase));

    public Task PinAsync(Machine machine, string hostKey, CancellationToken stop) =>
        fleet.PinHostKeyAsync(
            machine.Id,
            hostKey,
            "first-use",
            $"the first key that it showed, which {machine.Site} says is trusted",
            Actor.Worker,
            clock.GetUtcNow(),
            stop
        );
}
