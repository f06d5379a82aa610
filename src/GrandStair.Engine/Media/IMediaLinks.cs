using GrandStair.Core.Runs;

namespace GrandStair.Engine.Media;

/// <summary>Where a machine fetches a file, and by what the service knows that it may.</summary>
/// <param name="Url">The URL.</param>
/// <param name="Token">What it shows; good as long as its order is outstanding.</param>
public sealed record MediaLink(Uri Url, string Token);

/// <summary>Makes the links by which machines fetch media.</summary>
public interface IMediaLinks
{
    /// <summary>The link for an order; null where the service does not know under which URL machines reach it.</summary>
    /// <param name="order">The order.</param>
    /// <param name="sha256">The SHA-256 of the file.</param>
    MediaLink? LinkFor(OrderName order, string sha256);
}
