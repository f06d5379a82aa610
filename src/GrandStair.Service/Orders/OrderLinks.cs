using System.Security.Cryptography;
using GrandStair.Core.Runs;
using GrandStair.Engine.Orders;
using GrandStair.Storage.Runs;
using Microsoft.AspNetCore.DataProtection;
using Microsoft.AspNetCore.Hosting.Server;
using Microsoft.AspNetCore.Hosting.Server.Features;

namespace GrandStair.Service.Orders;

/// <summary>
/// The links by which machines with an order reach the service. A token names its order and a path, and cannot be made without the
/// service's keys; it opens that path for as long as that order is outstanding.
/// </summary>
internal sealed class OrderLinks(IDataProtectionProvider protection, ServiceOptions options, IServer server, RunLog runs) : IOrderLinks
{
    private readonly IDataProtector _protector = protection.CreateProtector("orders");

    /// <inheritdoc />
    public bool IsReachable => BaseUrl is not null;

    /// <inheritdoc />
    public OrderLink? LinkFor(OrderName order, string path) =>
        BaseUrl is { } url ? new(new(url, path), _protector.Protect($"{order} {path}")) : null;

    /// <summary>The outstanding order that a call shows the token of, for the path that it calls; null for every other call.</summary>
    public async Task<OrderName?> OrderOfAsync(HttpRequest request, CancellationToken stop)
    {
        const string Scheme = "Order ";
        var shown = request.Headers.Authorization.ToString();
        if (!shown.StartsWith(Scheme, StringComparison.Ordinal))
            return null;
        string text;
        try
        {
            text = _protector.Unprotect(shown[Scheme.Length..]);
        }
        catch (CryptographicException)
        {
            return null;
        }

        return
            text.Split(' ') is [var name, var path]
            && path == request.Path
            && OrderName.Parse(name) is var order
            && (await runs.FindAsync(order.Run, stop))?.State.Outstanding?.Name == order
            ? order
            : null;
    }

    /// <summary>The URL under which machines reach this service; null where it listens on all addresses and was not told one.</summary>
    private Uri? BaseUrl
    {
        get
        {
            if (options.MachineUrl is { } url)
                return url;
            var address = server.Features.Get<IServerAddressesFeature>()?.Addresses.FirstOrDefault();
            return address is null || options.Listen.Equals(System.Net.IPAddress.Any) || options.Listen.Equals(System.Net.IPAddress.IPv6Any)
                ? null
                : new(address);
        }
    }
}
