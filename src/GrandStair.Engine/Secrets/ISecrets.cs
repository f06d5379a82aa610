using GrandStair.Connections;

namespace GrandStair.Engine.Secrets;

/// <summary>Hands out secrets to the code that uses them; they are never shown.</summary>
public interface ISecrets
{
    /// <summary>The secret of that name in the service's store.</summary>
    /// <exception cref="ConnectionException">There is none, or it cannot be decrypted (<c>secret</c>).</exception>
    Task<string> OfAsync(string name, CancellationToken stop);
}
