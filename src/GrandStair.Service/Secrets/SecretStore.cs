using System.Security.Cryptography;
using GrandStair.Connections;
using GrandStair.Connections.Ssh;
using GrandStair.Core.Access;
using GrandStair.Core.Refusals;
using GrandStair.Engine.Clocks;
using GrandStair.Engine.Secrets;
using GrandStair.Storage.Secrets;
using Microsoft.AspNetCore.DataProtection;
using Microsoft.AspNetCore.DataProtection.KeyManagement;

namespace GrandStair.Service.Secrets;

/// <summary>Keeps secrets encrypted, and hands them out to what uses them.</summary>
internal sealed class SecretStore(
    SecretTable table,
    SavedFileStore savedFiles,
    IDataProtectionProvider protection,
    IKeyManager keys,
    ServiceOptions options,
    DomainClock clock
) : ISecrets
{
    private const int Longest = 64 << 10;
    private const string PassphraseOf = ".passphrase";
    private static readonly TimeSpan KeyLasts = TimeSpan.FromDays(90);
    private readonly IDataProtector _protector = protection.CreateProtector("secrets");

    /// <summary>Stores a secret.</summary>
    /// <exception cref="RefusedException">The name or the secret will not do.</exception>
    public Task PutAsync(string name, string value, Actor actor, CancellationToken stop)
    {
        if (!SecretReference.IsName(name))
            throw RefusedException.Invalid(
                "secret-name",
                $"'{name}' is no name for a secret; expected a letter, then up to {SecretReference.LongestName - 1} letters, digits, "
                    + $"hyphens and dots."
            );
        if (value.Length is 0 or > Longest)
            throw RefusedException.Invalid("secret-value", $"A secret has 1 to {Longest} signs; this one has {value.Length}.");
        return table.PutAsync(name, _protector.Protect(value), actor, clock.GetUtcNow(), stop);
    }

    /// <inheritdoc />
    public async Task<string> OfAsync(string name, CancellationToken stop) =>
        await FindAsync(name, stop)
        ?? throw new ConnectionException("secret", $"There is no secret '{name}'. Put it with 'gstair secret put {name}'.");

    /// <summary>The secret that a reference means.</summary>
    /// <exception cref="ConnectionException">It cannot be fetched.</exception>
    public async Task<string> OfAsync(SecretReference reference, CancellationToken stop)
    {
        switch (reference.Kind)
        {
            case "file":
                try
                {
                    return (await File.ReadAllTextAsync(reference.Name, stop)).TrimEnd('\n', '\r');
                }
                catch (Exception error) when (error is IOException or UnauthorizedAccessException)
                {
                    throw new ConnectionException("secret", $"The secret in {reference.Name} cannot be read: {error.Message}", error);
                }

            case "env":
                return Environment.GetEnvironmentVariable(reference.Name) is { Length: > 0 } value
                    ? value
                    : throw new ConnectionException("secret", $"The service was started without {reference.Name} in its environment.");
            default:
                return await OfAsync(reference.Name, stop);
        }
    }

    /// <summary>The key that logs in to a machine: the one that its fleet entry names, or else the service's own.</summary>
    /// <exception cref="ConnectionException">There is none.</exception>
    public async Task<SshKey> SshKeyAsync(string? name, CancellationToken stop)
    {
        if (name is null && options.SshKey is null)
            throw new ConnectionException(
                "login-refused",
                "The service has no SSH key. Start it with --ssh-key FILE or --ssh-key secret:NAME."
            );
        var reference = name is null ? options.SshKey! : new("secret", name);
        var pem = await OfAsync(reference, stop);
        var passphrase =
            reference.Kind != "secret"
                ? options.SshPassphrase is { } asked
                    ? await OfAsync(asked, stop)
                    : null
                : await FindAsync(reference.Name + PassphraseOf, stop);
        return new(reference.ToString(), pem, passphrase);
    }

    /// <summary>Encrypts every secret with a new key, and forgets the keys before it.</summary>
    /// <returns>How many there were.</returns>
    public async Task<int> RotateAsync(Actor actor, CancellationToken stop)
    {
        var now = DateTimeOffset.UtcNow;
        var made = keys.CreateNewKey(now, now + KeyLasts);
        var count = await table.RewriteAsync(old => _protector.Protect(_protector.Unprotect(old)), actor, clock.GetUtcNow(), stop);
        await savedFiles.RotateAsync(stop);
        // An old dump with an old copy of the keys still reveals the old secrets, but not the new ones.
        foreach (var file in Directory.GetFiles(options.Keys, "key-*.xml").Where(f => Path.GetFileName(f) != $"key-{made.KeyId:D}.xml"))
            File.Delete(file);
        return count;
    }

    /// <summary>The secret of that name; null where there is none.</summary>
    /// <exception cref="ConnectionException">It cannot be decrypted.</exception>
    private async Task<string?> FindAsync(string name, CancellationToken stop)
    {
        try
        {
            return await table.FindAsync(name, clock.GetUtcNow(), stop) is { } encrypted ? _protector.Unprotect(encrypted) : null;
        }
        catch (CryptographicException error)
        {
            throw new ConnectionException(
                "secret",
                $"The secret '{name}' cannot be decrypted: its key is not among those in {options.Keys}. Put the keys back from their "
                    + $"backup, or put the secret again.",
                error
            );
        }
    }
}
