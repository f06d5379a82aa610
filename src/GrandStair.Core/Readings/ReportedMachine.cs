using System.Collections.Immutable;

namespace GrandStair.Core.Readings;

/// <summary>A machine as a source reports it.</summary>
/// <param name="Line">The line of the file that it stands in, from 1; 0 where it comes from no file.</param>
/// <param name="Name">Its name.</param>
/// <param name="Identifiers">Its other identifiers.</param>
/// <param name="Site">Its site; null to leave it as it is.</param>
/// <param name="Group">Its group; null to leave it as it is.</param>
/// <param name="Owner">Its owner; null to leave it as it is.</param>
/// <param name="Tags">Its tags; null to leave them as they are.</param>
/// <param name="Connection">How it is reached; null to leave it as it is.</param>
/// <param name="Report">What was read of it.</param>
/// <param name="Seen">When that was seen, UTC.</param>
public sealed record ReportedMachine(
    int Line,
    string Name,
    ImmutableArray<Identifier> Identifiers,
    string? Site,
    string? Group,
    string? Owner,
    ImmutableArray<string>? Tags,
    ConnectionAddress? Connection,
    SourceReport Report,
    DateTimeOffset Seen
);
