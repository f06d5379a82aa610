using System.Collections.Immutable;
using GrandStair.Core.Conditions;
using GrandStair.Core.Readings;

namespace GrandStair.Core.Catalogue;

/// <summary>Installation files that steps fetch to machines: one of several variants, by what the machine is.</summary>
/// <param name="Name">Its name within its product.</param>
/// <param name="Title">What people call it.</param>
/// <param name="Variants">Its variants, in the order in which they are tried.</param>
public sealed record Media(string Name, string Title, ImmutableArray<MediaVariant> Variants)
{
    /// <summary>
    /// The first variant that fits a machine. One of which it is unknown whether it fits ends the choice: a later one must not be taken for
    /// want of a reading.
    /// </summary>
    /// <param name="machine">The machine.</param>
    /// <param name="now">The time, UTC.</param>
    public MediaChoice Choose(IReadable machine, DateTimeOffset now)
    {
        foreach (var variant in Variants)
        {
            if (variant.For is not { } condition)
                return new(variant, "");
            var answer = condition.Ask(machine, new EvaluationContext(now));
            if (answer.Value == Kleene.Yes)
                return new(variant, "");
            if (answer.Value == Kleene.Unknown)
                return new(
                    null,
                    $"it is unknown whether {variant.File} of media '{Name}' fits: {string.Join(", ", answer.Leaves.Select(l => l.Tell()))}"
                );
        }

        return new(null, $"no variant of media '{Name}' is for this machine");
    }
}

/// <summary>One file of media.</summary>
/// <param name="File">Its file name.</param>
/// <param name="Sha256">The SHA-256 of its content, 64 lower-case hexadecimal digits: what makes it this file and no other.</param>
/// <param name="Size">Its size in bytes.</param>
/// <param name="For">The machines that it is for; null for all.</param>
public sealed record MediaVariant(string File, string Sha256, long Size, Condition? For)
{
    /// <summary>
    /// Whether a text can be the name of such a file: letters, digits, <c>.</c>, <c>-</c> and <c>_</c>, no <c>.</c> in front. That it is
    /// not empty is looked at elsewhere.
    /// </summary>
    public static bool IsFileName(string text) =>
        !text.StartsWith('.') && text.All(c => char.IsAsciiLetterOrDigit(c) || c is '-' or '.' or '_');

    /// <summary>Whether a text is a SHA-256 as it is written here.</summary>
    public static bool IsSha256(string text) => text is { Length: 64 } && text.All(char.IsAsciiHexDigitLower);
}

/// <summary>Which variant of media a machine gets.</summary>
/// <param name="Variant">The variant; null where there is none.</param>
/// <param name="Why">Why there is none; empty where there is one.</param>
public sealed record MediaChoice(MediaVariant? Variant, string Why);
