using System.Collections.Immutable;
using GrandStair.Core.Access;
using GrandStair.Files.Yaml;

namespace GrandStair.Files.Providers;

/// <summary>A provider that vouches for people and programs (OpenID Connect Core 1.0).</summary>
/// <param name="Authority">Its address, below which its metadata is found (OpenID Connect Discovery 1.0).</param>
/// <param name="Client">The name under which the console is known to it.</param>
/// <param name="ClientSecret">The reference to the console's secret; null where it has none and PKCE alone protects the code.</param>
/// <param name="TerminalClient">The name under which <c>gstair login</c> is known to it (RFC 8628); null where that is not allowed.</param>
/// <param name="Audience">The audience that its access tokens must have.</param>
/// <param name="Scopes">What is asked for besides <c>openid</c>.</param>
/// <param name="Mapping">What its claims mean.</param>
public sealed record SignInProvider(
    string Authority,
    string Client,
    SecretReference? ClientSecret,
    string? TerminalClient,
    string Audience,
    ImmutableArray<string> Scopes,
    ClaimMapping Mapping
);

/// <summary>Reads a provider's YAML file.</summary>
public static class ProviderFile
{
    /// <summary>Parses the file.</summary>
    /// <exception cref="FileException">Something is wrong in it; all of it is reported, with line and column.</exception>
    public static SignInProvider Parse(string text, string file)
    {
        var problems = new Problems(file);
        var map = YamlMap.Read(text, problems);
        var roles = map.Map("roles");
        var sites = map.OptionalMap("sites");
        var name = map.Text("provider");
        if (name.Length is 0 or > 20 || !name.All(c => char.IsAsciiLetterLower(c) || c == '-'))
            map.Wrong("provider", $"'{name}' is no name for a provider; expected up to 20 small letters and hyphens.");
        var authority = map.Text("authority");
        if (
            !Uri.TryCreate(authority, UriKind.Absolute, out var address)
            || !(address.Scheme == "https" || (address.Scheme == "http" && address.IsLoopback))
        )
            map.Wrong(
                "authority",
                $"'{authority}' is no address of a provider; expected one such as https://id.northmere.example/ (http for this machine "
                    + $"alone)."
            );
        SecretReference? secret = null;
        if (map.Optional("client-secret") is { } reference)
        {
            try
            {
                secret = SecretReference.Parse(reference);
            }
            catch (FormatException error)
            {
                map.Wrong("client-secret", error.Message);
            }
        }

        var of = ImmutableDictionary.CreateBuilder<string, Roles>(StringComparer.Ordinal);
        foreach (var (value, named) in roles.Pairs("map"))
        {
            try
            {
                of[value] = RoleNames.Parse(named.Split([' ', ','], StringSplitOptions.RemoveEmptyEntries));
            }
            catch (FormatException error)
            {
                roles.Wrong("map", error.Message);
            }
        }

        var provider = new SignInProvider(
            authority,
            map.Text("client"),
            secret,
            map.Optional("terminal-client"),
            map.Text("audience"),
            [.. map.Texts("scopes")],
            new(
                name,
                map.Optional("name") ?? "preferred_username",
                map.Optional("program") ?? "client_id",
                roles.Text("claim"),
                of.ToImmutable(),
                sites?.Text("claim"),
                sites?.Optional("all")
            )
        );
        roles.Done();
        sites?.Done();
        map.Done();
        problems.ThrowIfAny();
        return provider;
    }
}
