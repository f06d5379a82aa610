using System.Collections.Immutable;
using GrandStair.Core.Refusals;

namespace GrandStair.Core.Catalogue;

/// <summary>The hosts from which the service itself may download media. None by default: the service reaches out to nobody.</summary>
/// <param name="Names">Host names, in lower case, each alone (any port) or with its port: <c>downloads.example:8443</c>.</param>
public sealed record MediaHosts(ImmutableArray<string> Names)
{
    /// <summary>Reads the names of hosts.</summary>
    /// <param name="names">The names; spaces around them are left out.</param>
    /// <exception cref="RefusedException">One is no host name, such as a URL.</exception>
    public static MediaHosts Parse(IEnumerable<string> names)
    {
        ArgumentNullException.ThrowIfNull(names);
        return new([.. names.Select(n => n.Trim().ToLowerInvariant()).Where(n => n.Length > 0).Distinct().Select(Checked)]);
    }

    /// <summary>Whether media may be downloaded from a URL.</summary>
    public bool Allow(Uri url)
    {
        ArgumentNullException.ThrowIfNull(url);
        return Names.Contains(url.Host) || Names.Contains($"{url.Host}:{url.Port}");
    }

    private static string Checked(string name) =>
        Uri.TryCreate($"https://{name}/", UriKind.Absolute, out var url)
        && url is { PathAndQuery: "/", UserInfo: "" }
        && (name == url.Host || name == $"{url.Host}:{url.Port}")
            ? name
            : throw RefusedException.Invalid(
                "media-hosts",
                $"'{name}' is no host; expected a name such as downloads.example, or with a port as in downloads.example:8443."
            );
}
