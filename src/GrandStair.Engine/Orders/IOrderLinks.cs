using GrandStair.Core.Runs;

namespace GrandStair.Engine.Orders;

/// <summary>Where a machine fetches or leaves something for an order, and by what the service knows that it may.</summary>
/// <param name="Url">The URL.</param>
/// <param name="Token">What it shows; good for that URL as long as its order is outstanding.</param>
public sealed record OrderLink(Uri Url, string Token);

/// <summary>Makes the links by which machines with an order reach the service.</summary>
public interface IOrderLinks
{
    /// <summary>The link of an order; null where the service does not know under which URL machines reach it.</summary>
    /// <param name="order">The order.</param>
    /// <param name="path">The path below the service, such as <c>/media/SHA256</c>.</param>
    OrderLink? LinkFor(OrderName order, string path);
}
