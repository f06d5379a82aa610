using System.Collections.Immutable;
using System.Globalization;
using CsvHelper;
using CsvHelper.Configuration;
using GrandStair.Core.Readings;

namespace GrandStair.Files.Fleet;

/// <summary>A line of a fleet file that was understood.</summary>
/// <param name="Line">Its line, from 1.</param>
/// <param name="Name">The machine's name.</param>
/// <param name="Identifiers">Other identifiers.</param>
/// <param name="Site">Its site; null where the file has no such column.</param>
/// <param name="Group">Its group; null where the file has no such column.</param>
/// <param name="Owner">Its owner; null where the file has no such column.</param>
/// <param name="Tags">Its tags; null where the file has no such column.</param>
/// <param name="Link">How it is reached; null where the file does not say.</param>
/// <param name="Seen">When its readings were seen, UTC.</param>
/// <param name="Readings">Its readings.</param>
public sealed record FleetLine(
    int Line,
    string Name,
    ImmutableArray<Identifier> Identifiers,
    string? Site,
    string? Group,
    string? Owner,
    ImmutableArray<string>? Tags,
    LinkAddress? Link,
    DateTimeOffset Seen,
    ImmutableArray<Reading> Readings);

/// <summary>A fleet file.</summary>
/// <param name="Machines">The lines that were understood.</param>
/// <param name="Covered">The reading keys that the file has columns for.</param>
/// <param name="Problems">The lines, or values of lines, that were not; the rest goes on.</param>
public sealed record FleetFile(IReadOnlyList<FleetLine> Machines, ImmutableArray<string> Covered, IReadOnlyList<FileProblem> Problems);

/// <summary>
/// Reads a fleet from CSV (RFC 4180). The first line names the columns: <c>name</c>, <c>serial</c>, <c>site</c>, <c>group</c>, <c>owner</c>,
/// <c>tags</c> (separated by spaces), <c>link</c>, <c>address</c>, <c>port</c>, <c>user</c>, <c>host key</c>, <c>seen</c>, and any reading key.
/// An empty cell of a reading means absent, a single <c>?</c> that it could not be read.
/// </summary>
public static class FleetCsv
{
    private static readonly string[] Columns = ["name", "serial", "site", "group", "owner", "tags", "link", "address", "port", "user", "host key", "seen"];

    /// <summary>Reads a file.</summary>
    /// <param name="seenAt">When the readings were seen, for a file without a column <c>seen</c>; null refuses such a file, since old readings taken for new ones mislead.</param>
    /// <exception cref="FileException">The header is wrong; nothing can be read.</exception>
    public static FleetFile Read(TextReader reader, string file, string source, KeyRegistry keys, DateTimeOffset now, DateTimeOffset? seenAt)
    {
        var broken = new List<FileProblem>();
        var configuration = new CsvConfiguration(CultureInfo.InvariantCulture)
        {
            BadDataFound = null,
            MissingFieldFound = null,
            TrimOptions = TrimOptions.Trim,
        };
        using var csv = new CsvReader(reader, configuration);
        if (!csv.Read() || !csv.ReadHeader()) throw new FileException([new(file, 1, 0, "The file is empty; expected a first line that names the columns.")]);
        var header = csv.HeaderRecord!.Select(h => h.TrimStart('\uFEFF').Trim().ToLowerInvariant()).ToArray();
        CheckHeader(header, file, keys, seenAt);
        ImmutableArray<string> covered = [.. header.Except(Columns, StringComparer.Ordinal)];

        var machines = new List<FleetLine>();
        var names = new Dictionary<string, int>(StringComparer.OrdinalIgnoreCase);
        while (csv.Read())
        {
            var line = csv.Parser.RawRow;
            if (csv.Parser.Count != header.Length)
            {
                broken.Add(new(file, line, 0, $"The line has {csv.Parser.Count} cells, expected {header.Length} as in the first line. It was left out."));
                continue;
            }

            var cells = header.Zip(csv.Parser.Record!).ToDictionary(c => c.First, c => c.Second, StringComparer.Ordinal);
            if (LineOf(cells, covered, line, file, source, keys, now, seenAt, broken) is not { } machine) continue;
            if (names.TryGetValue(machine.Name, out var first))
            {
                broken.Add(new(file, line, 0, $"'{machine.Name}' stands in line {first} already. This line was left out."));
                continue;
            }

            names[machine.Name] = line;
            machines.Add(machine);
        }

        return new(machines, covered, broken);
    }

    private static void CheckHeader(string[] header, string file, KeyRegistry keys, DateTimeOffset? seenAt)
    {
        var problems = new List<FileProblem>();
        if (!header.Contains("name")) problems.Add(new(file, 1, 0, "There is no column 'name'."));
        foreach (var column in header.Where(h => !Columns.Contains(h) && keys.Find(h) is null))
        {
            var near = Spelling.Nearest(column, Columns.Concat(keys.All.Select(k => k.Name)));
            problems.Add(new(file, 1, 0, $"The column '{column}' is neither known nor a reading key{(near is null ? "" : $"; did you mean '{near}'?")}."));
        }

        foreach (var twice in header.GroupBy(h => h).Where(g => g.Count() > 1)) problems.Add(new(file, 1, 0, $"The column '{twice.Key}' stands there twice."));
        if (!header.Contains("seen") && seenAt is null && header.Except(Columns).Any())
            problems.Add(new(file, 1, 0, "The file does not say when its readings were seen. Add a column 'seen', or say it for all with --seen TIME (or --seen now)."));
        if (problems.Count > 0) throw new FileException(problems);
    }

    private static FleetLine? LineOf(Dictionary<string, string> cells, ImmutableArray<string> covered, int line, string file, string source, KeyRegistry keys, DateTimeOffset now, DateTimeOffset? seenAt, List<FileProblem> problems)
    {
        string? Cell(string column) => cells.TryGetValue(column, out var text) && text.Length > 0 ? text : null;
        FleetLine? Refuse(string message)
        {
            problems.Add(new(file, line, 0, message + " The line was left out."));
            return null;
        }

        if (Cell("name") is not { } name) return Refuse("The name is empty.");
        if (name.Length > 200 || name.Any(char.IsControl)) return Refuse("The name has more than 200 signs or control signs.");
        var seen = seenAt ?? now;
        if (Cell("seen") is { } seenText)
        {
            if (ReadingValue.Parse(ValueKind.Instant, seenText, out var expected) is not { } value) return Refuse($"'{name}': seen is '{seenText}', expected {expected}.");
            seen = DateTimeOffset.FromUnixTimeSeconds((long)value.Amount);
        }

        if (!TryLink(cells, name, out var link, out var wrong)) return Refuse(wrong!);
        var readings = ImmutableArray.CreateBuilder<Reading>();
        foreach (var key in covered)
        {
            var text = cells[key];
            if (text.Length == 0) continue;
            if (text == "?")
            {
                readings.Add(Reading.Unreadable(key, "the source could not read it", seen, now, source));
            }
            else if (ReadingValue.Parse(keys.Find(key)!.Kind, text, out var expected) is { } value)
            {
                readings.Add(Reading.Of(key, value, seen, now, source));
            }
            else
            {
                problems.Add(new(file, line, 0, $"'{name}': {key} is '{text}', expected {expected}. It was taken as unreadable; the rest of the line was kept."));
                readings.Add(Reading.Unreadable(key, $"the file said '{text}', expected {expected}", seen, now, source));
            }
        }

        return new(
            line,
            name,
            Cell("serial") is { } serial ? [new("serial", serial)] : [],
            cells.ContainsKey("site") ? Cell("site") ?? "" : null,
            cells.ContainsKey("group") ? Cell("group") ?? "" : null,
            cells.ContainsKey("owner") ? Cell("owner") ?? "" : null,
            cells.ContainsKey("tags") ? [.. (Cell("tags") ?? "").Split(' ', StringSplitOptions.RemoveEmptyEntries)] : null,
            link,
            seen,
            readings.ToImmutable());
    }

    private static bool TryLink(Dictionary<string, string> cells, string name, out LinkAddress? link, out string? wrong)
    {
        link = null;
        wrong = null;
        string Cell(string column, string otherwise) => cells.TryGetValue(column, out var text) && text.Length > 0 ? text : otherwise;
        if (!cells.ContainsKey("link") && !cells.ContainsKey("address")) return true;
        var kind = Cell("link", "ssh");
        if (kind is not ("ssh" or "stand-in"))
        {
            wrong = $"'{name}': link is '{kind}', expected ssh or stand-in.";
            return false;
        }

        if (!int.TryParse(Cell("port", "22"), NumberStyles.None, CultureInfo.InvariantCulture, out var port) || port is < 1 or > 65535)
        {
            wrong = $"'{name}': port is '{Cell("port", "")}', expected 1 to 65535.";
            return false;
        }

        var hostKey = Cell("host key", "");
        if (hostKey.Length > 0 && hostKey.Split(' ').Length < 2)
        {
            wrong = $"'{name}': the host key must be as in known_hosts, such as 'ssh-ed25519 AAAA…'.";
            return false;
        }

        link = new(kind, kind == "ssh" ? Cell("address", name) : "", port, Cell("user", "root"), hostKey.Length > 0 ? hostKey : null);
        return true;
    }
}
