namespace GrandStair.Core.Access;

/// <summary>
/// Where a secret is to be had: by a name in the service's own store, in a file, or in an environment variable of the service.
/// </summary>
/// <param name="Kind"><c>secret</c>, <c>file</c> or <c>env</c>.</param>
/// <param name="Name">The name, path or variable.</param>
public sealed record SecretReference(string Kind, string Name)
{
    /// <summary>The longest name in the store.</summary>
    public const int LongestName = 60;

    private static readonly string[] Kinds = ["secret", "file", "env"];

    /// <summary>Reads a reference such as <c>secret:ldap-reader</c>, <c>file:/run/keys/carrier</c> or <c>env:LDAP_PASSWORD</c>.</summary>
    /// <exception cref="FormatException">It is none. The text is not repeated, since it may be the secret itself.</exception>
    public static SecretReference Parse(string text)
    {
        ArgumentNullException.ThrowIfNull(text);
        return text.Split(':', 2) is [var kind, { Length: > 0 } name] && Kinds.Contains(kind) && (kind != "secret" || IsName(name))
            ? new(kind, name)
            : throw new FormatException(
                "A secret is not written down here but referred to: expected secret:NAME, file:PATH or env:VARIABLE."
            );
    }

    /// <summary>Whether a text can be a secret's name: letters, digits, hyphens and dots.</summary>
    public static bool IsName(string name)
    {
        ArgumentNullException.ThrowIfNull(name);
        return name.Length is > 0 and <= LongestName
            && name.All(c => char.IsAsciiLetterOrDigit(c) || c is '-' or '.')
            && char.IsAsciiLetter(name[0]);
    }

    /// <inheritdoc />
    public override string ToString() => $"{Kind}:{Name}";
}
