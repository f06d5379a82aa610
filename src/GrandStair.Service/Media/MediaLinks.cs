using System.Security.Cryptography;
using GrandStair.Core.Runs;
using GrandStair.Engine.Media;
using GrandStair.Storage.Runs;
using Microsoft.AspNetCore.DataProtection;
using Microsoft.AspNetCore.Hosting.Server;
using Microsoft.AspNetCore.Hosting.Server.Features;

namespace GrandStair.Service.Media;

/// <summary>
/// The links by which machines fetch media. A token names its order and its file, and cannot be made without the service's keys; it opens
/// that file for as long as that order is outstanding.
/// </summary>
internal sealed class MediaLinks(IDataProtectionProvider protection, ServiceOptions options, IServer server, RunLog runs) : IMediaLinks
{
    private readonly IDataProtector _protector = protection.CreateProtector("media orders");

    /// <inheritdoc />
    public MediaLink? LinkFor(OrderName order, string sha256) =>
        BaseUrl is { } url ? new(new(url, $"/media/{sha256}"), _protector.Protect($"{order} {sha256}")) : null;

    /// <summary>Whether a token opens a file now.</summary>
    public async Task<bool> OpensAsync(string token, string sha256, CancellationToken stop)
    {
        string text;
        try
        {
            text = _protector.Unprotect(token);
        }
        catch (CryptographicException)
        {
            return false;
        }

        return text.Split(' ') is [var name, var file]
            && file == sha256
            && OrderName.Parse(name) is var order
            && (await runs.FindAsync(order.Run, stop))?.State.Outstanding?.Name == order;
    }

    /// <summary>The URL under which machines reach this service; null where it listens on all addresses and was not told one.</summary>
    private Uri? BaseUrl
    {
        get
        {
            if (options.MediaUrl is { } told)
                return told;
            var address = server.Features.Get<IServerAddressesFeature>()?.Addresses.FirstOrDefault();
            return address is null || options.Listen.Equals(System.Net.IPAddress.Any) || options.Listen.Equals(System.Net.IPAddress.IPv6Any)
                ? null
                : new(address);
        }
    }
}
