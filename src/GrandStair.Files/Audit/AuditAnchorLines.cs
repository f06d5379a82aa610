using System.Globalization;
using System.Text.RegularExpressions;
using GrandStair.Core.Audit;

namespace GrandStair.Files.Audit;

/// <summary>
/// Heads of the audit as they were written outside the service: a line of an export (JSON), or a syslog message (RFC 5424), one a line.
/// </summary>
public static partial class AuditAnchorLines
{
    /// <summary>
    /// A head as the structured data of a syslog message (RFC 5424 §6.3); 32473 is the enterprise number for documentation (RFC 5612).
    /// </summary>
    public static string Structured(AuditSeal head)
    {
        ArgumentNullException.ThrowIfNull(head);
        return string.Create(
            CultureInfo.InvariantCulture,
            $"[head@32473 number=\"{head.Number}\" hash=\"{head.Hash}\" key=\"{head.Key}\" signature=\"{head.Signature}\"]"
        );
    }

    /// <summary>Reads all heads of a file; lines of other programs between them are left out.</summary>
    /// <param name="text">The file's content.</param>
    /// <param name="name">The file's name, for errors.</param>
    /// <exception cref="FileException">There is no head in it.</exception>
    public static IReadOnlyList<AuditSeal> Read(TextReader text, string name)
    {
        ArgumentNullException.ThrowIfNull(text);
        var heads = new List<AuditSeal>();
        while (text.ReadLine() is { } line)
        {
            if (AuditExport.SealIn(line) is { } seal)
                heads.Add(seal);
            else if (Syslog().Match(line) is { Success: true, Groups: var fields })
                heads.Add(
                    new(
                        long.Parse(fields["number"].Value, CultureInfo.InvariantCulture),
                        fields["hash"].Value,
                        fields["key"].Value,
                        fields["signature"].Value
                    )
                );
        }

        return heads.Count > 0
            ? heads
            : throw new FileException([
                new(
                    name,
                    1,
                    0,
                    "The file has no anchored head; expected lines that --audit-anchor wrote, as JSON or as syslog messages with "
                        + "[head@32473 …]."
                ),
            ]);
    }

    [GeneratedRegex(
        "\\[head@32473 number=\"(?<number>[0-9]{1,18})\" hash=\"(?<hash>[0-9a-f]{64})\" key=\"(?<key>[0-9a-f]{64})\" "
            + "signature=\"(?<signature>[A-Za-z0-9+/=]+)\"",
        RegexOptions.NonBacktracking
    )]
    private static partial Regex Syslog();
}
