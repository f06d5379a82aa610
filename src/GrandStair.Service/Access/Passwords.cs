using GrandStair.Core.Refusals;
using GrandStair.Storage.Access;
using Microsoft.AspNetCore.Identity;

namespace GrandStair.Service.Access;

/// <summary>A name that has to wait before it may try to sign in again.</summary>
/// <param name="wait">How long.</param>
internal sealed class WaitException(TimeSpan wait)
    : Exception($"Too many wrong passwords for this name. Try again in {Math.Ceiling(wait.TotalSeconds):0} s.")
{
    public TimeSpan Wait { get; } = wait;
}

/// <summary>Passwords: what they have to be, and whether one is right.</summary>
internal sealed class Passwords(AccountTable accounts)
{
    public const int Shortest = 12;
    public const int Longest = 200;
    private static readonly PasswordHasher<string> Hasher = new();

    // For names that there are not, so that they take as long as those that there are.
    private static readonly string Nobodys = Hasher.HashPassword("", AccessTable.NewSecret());

    /// <summary>The hash of a new password.</summary>
    /// <exception cref="RefusedException">It is too easy.</exception>
    public static string Hash(string account, string password)
    {
        if (password.Length is < Shortest or > Longest)
            throw RefusedException.Invalid(
                "password",
                $"A password has {Shortest} to {Longest} characters; this one has {password.Length}. A passphrase of unrelated words "
                    + $"works well."
            );
        if (password.Distinct().Count() < 5 || password.Contains(account, StringComparison.OrdinalIgnoreCase))
            throw RefusedException.Invalid(
                "password",
                "This password is too easy to guess: it repeats a few characters or contains the account's name. Choose another one."
            );
        return Hasher.HashPassword(account, password);
    }

    /// <summary>
    /// Whether a password is an account's. After wrong ones the caller has to wait, longer each time, whether or not the account exists.
    /// </summary>
    /// <exception cref="WaitException">The name has to wait.</exception>
    public async Task<bool> IsRightAsync(string account, string password, CancellationToken stop)
    {
        var now = DateTimeOffset.UtcNow;
        if (account.Length == 0 || account.Length > Account.LongestName || password.Length > Longest)
            return false;
        if (await accounts.TryAsync(account, now, stop) is { } until)
            throw new WaitException(until - now);
        var hash = await accounts.PasswordAsync(account, stop);
        var result = Hasher.VerifyHashedPassword(account, hash ?? Nobodys, password);
        if (hash is null || result == PasswordVerificationResult.Failed)
            return false;
        if (result == PasswordVerificationResult.SuccessRehashNeeded)
            await accounts.RehashAsync(account, Hasher.HashPassword(account, password), stop);
        await accounts.SignedInAsync(account, now, stop);
        return true;
    }
}

/// <summary>What an account's name has to be.</summary>
internal static class Account
{
    public const int LongestName = 40;
    private static readonly string[] Taken = ["worker", "schedule"];

    /// <summary>A name as it is kept.</summary>
    /// <exception cref="RefusedException">It is none.</exception>
    public static string Name(string name)
    {
        var kept = name.Trim().ToLowerInvariant();
        return
            kept.Length is > 0 and <= LongestName
            && !Taken.Contains(kept)
            && char.IsAsciiLetter(kept[0])
            && kept.All(c => char.IsAsciiLetterOrDigit(c) || c is '-' or '.')
            ? kept
            : throw RefusedException.Invalid(
                "account-name",
                $"'{name}' is no name for an account; expected a letter, then up to {LongestName - 1} letters, digits, hyphens and "
                    + $"dots, and none of {string.Join(", ", Taken)}."
            );
    }
}
