using GrandStair.Connections;
using GrandStair.Core.Runs;

namespace GrandStair.Engine.Orders;

/// <summary>Where a machine fetches or leaves something for an order, and by what the service knows that it may.</summary>
/// <param name="Url">The URL.</param>
/// <param name="Token">What it shows; good for that URL as long as its order is outstanding.</param>
public sealed record OrderLink(Uri Url, string Token);

/// <summary>Makes the links by which machines with an order reach the service.</summary>
public interface IOrderLinks
{
    /// <summary>Whether the service knows under which URL machines reach it.</summary>
    bool IsReachable { get; }

    /// <summary>The link of an order; null where the service does not know under which URL machines reach it.</summary>
    /// <param name="order">The order.</param>
    /// <param name="path">The path below the service, such as <c>/media/SHA256</c>.</param>
    OrderLink? LinkFor(OrderName order, string path);
}

/// <summary>What orders that move files have in common.</summary>
internal static class LinkedOrders
{
    /// <summary>Why machines cannot reach the service; null where they can.</summary>
    public static string? WhyNot(this IOrderLinks links) =>
        links.IsReachable ? null : "the service does not know under which URL machines reach it; start it with --machine-url URL";

    /// <summary>Adds the link of an order, empty where there is none, and further values to it.</summary>
    public static PostedOrder With(this PostedOrder order, OrderLink? link, params IEnumerable<(string Name, string Value)> values)
    {
        var all = new Dictionary<string, string>(order.Values) { ["order_url"] = link?.Url.ToString() ?? "" };
        foreach (var (name, value) in values)
            all[name] = value;
        return order with
        {
            Values = all,
            Secrets = new Dictionary<string, string>(order.Secrets) { ["order-token"] = link?.Token ?? "" },
        };
    }
}
