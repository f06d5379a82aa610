using System.Collections.Immutable;
using GrandStair.Core.Access;
using GrandStair.Core.Readings;
using GrandStair.Files.Yaml;

namespace GrandStair.Files.Sources;

/// <summary>A directory from which machines and readings are taken.</summary>
/// <param name="Name">The source's name.</param>
/// <param name="Server">Host name or address.</param>
/// <param name="Port">TCP port.</param>
/// <param name="Security"><c>tls</c>, <c>starttls</c> or <c>none</c>.</param>
/// <param name="Bind">The distinguished name that reads; null for nobody.</param>
/// <param name="Password">The reference to its password; null for none.</param>
/// <param name="Base">The distinguished name below which entries are read.</param>
/// <param name="Filter">Which entries, as an LDAP filter (RFC 4515).</param>
/// <param name="PageSize">How many entries come at a time, 1 to 1000.</param>
/// <param name="Seen">The attribute that says when an entry was seen, as generalized time (RFC 4517 §3.3.13); null for the moment of
/// reading.</param>
/// <param name="Fields">The attribute of every field and key: <c>name</c>, <c>serial</c>, <c>site</c>, <c>group</c>, <c>owner</c>,
/// <c>tags</c>, and reading keys.</param>
/// <param name="Every">How often it is read; null for on demand only.</param>
public sealed record DirectorySource(
    string Name,
    string Server,
    int Port,
    string Security,
    string? Bind,
    SecretReference? Password,
    string Base,
    string Filter,
    int PageSize,
    string? Seen,
    ImmutableDictionary<string, string> Fields,
    TimeSpan? Every
);

/// <summary>Reads a source's YAML file.</summary>
public static class SourceFile
{
    /// <summary>What is written as <c>seen</c> where entries count as of the moment at which they are read.</summary>
    public const string SeenNow = "now";

    private const int MostPage = 1000;
    private static readonly string[] Named = ["name", "serial", "site", "group", "owner", "tags"];
    private static readonly string[] Taken = ["ssh", "simulated", "fleet", "dependents", "route", "import"];
    private static readonly Dictionary<string, int> Securities = new(StringComparer.Ordinal)
    {
        ["tls"] = 636,
        ["starttls"] = 389,
        ["none"] = 389,
    };

    /// <summary>Parses a source's file.</summary>
    /// <exception cref="FileException">Something is wrong in it; all of it is reported, with line and column.</exception>
    public static DirectorySource Parse(string text, KeyRegistry keys, string file)
    {
        ArgumentNullException.ThrowIfNull(keys);
        var problems = new Problems(file);
        var map = YamlMap.Read(text, problems);
        var ldap = map.Map("ldap");
        var security = ldap.Optional("security") ?? "tls";
        if (!Securities.TryGetValue(security, out var port))
            ldap.Wrong("security", $"'security' is '{security}'; expected tls, starttls or none.");
        var server = ldap.Text("server");
        if (security == "none" && server is not ("localhost" or "127.0.0.1" or "::1"))
            ldap.Wrong("security", "Without TLS the password goes over the line as it is; 'none' is for this machine alone.");
        var fields = map.Pairs("fields").ToImmutableDictionary();
        var source = new DirectorySource(
            map.Text("source"),
            server,
            ldap.Whole("port", port),
            security,
            ldap.Optional("bind"),
            PasswordOf(ldap),
            ldap.Text("base"),
            ldap.Text("filter"),
            ldap.Whole("page", 500),
            map.Optional("seen"),
            fields,
            map.Duration("every")
        );
        ldap.Done();
        map.Done();
        if (source.PageSize > MostPage)
            ldap.Wrong("page", $"'page' is {source.PageSize}; expected at most {MostPage}.");
        if (source.Bind is not null && source.Password is null)
            ldap.Wrong("bind", "Who binds has a password; refer to it with 'password', such as secret:ldap-reader.");
        if (Taken.Contains(source.Name) || source.Name.Length > 40 || source.Name.Any(c => !char.IsAsciiLetterOrDigit(c) && c != '-'))
            map.Wrong(
                "source",
                $"'{source.Name}' is no name for a source; expected up to 40 letters, digits and hyphens, and none of "
                    + $"{string.Join(", ", Taken)}."
            );
        if (!fields.ContainsKey("name"))
            map.Wrong("fields", "There is no attribute for 'name', by which machines are identified.");
        if (source.Seen is null && fields.Keys.FirstOrDefault(k => !Named.Contains(k)) is { } reading)
            map.Wrong(
                "fields",
                $"'{reading}' is a reading, and nothing says when the directory saw it. Name the attribute with the time, as in 'seen: "
                    + $"modifyTimestamp'; 'seen: now' takes it as of the moment at which it is read."
            );
        foreach (var key in fields.Keys.Where(k => !Named.Contains(k) && keys.Find(k) is null))
            map.Wrong(
                "fields",
                $"'{key}' is neither a field nor a key{Spelling.DidYouMean(key, Named.Concat(keys.All.Select(k => k.Name)), ".")}"
            );
        problems.ThrowIfAny();
        return source;
    }

    private static SecretReference? PasswordOf(YamlMap ldap)
    {
        var file = ldap.Optional("password-file");
        if (ldap.Optional("password") is not { } text)
            return file is null ? null : new("file", file);
        try
        {
            return SecretReference.Parse(text);
        }
        catch (FormatException error)
        {
            ldap.Wrong("password", error.Message);
            return null;
        }
    }
}
