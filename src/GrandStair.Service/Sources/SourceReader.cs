using System.Collections.Immutable;
using System.Globalization;
using GrandStair.Connections;
using GrandStair.Connections.Directories;
using GrandStair.Core.Access;
using GrandStair.Core.Readings;
using GrandStair.Core.Refusals;
using GrandStair.Engine.Catalogue;
using GrandStair.Engine.Clocks;
using GrandStair.Engine.Duties;
using GrandStair.Files.Sources;
using GrandStair.Service.Secrets;
using GrandStair.Storage.Databases;
using GrandStair.Storage.Fleet;

namespace GrandStair.Service.Sources;

/// <summary>Reads the sources that the service was given: on demand, and each by its schedule.</summary>
internal sealed class SourceReader(
    ServiceOptions options,
    SecretStore secrets,
    CatalogueCache catalogues,
    FleetTable fleet,
    SourceTable reads,
    DomainClock clock,
    DutyHost duties,
    ILogger<SourceReader> log
) : BackgroundService
{
    private const int MostTold = 20;
    private static readonly TimeSpan Tick = TimeSpan.FromSeconds(5);

    /// <summary>The sources, by name.</summary>
    public ImmutableSortedDictionary<string, DirectorySource> Sources { get; private set; } =
        ImmutableSortedDictionary<string, DirectorySource>.Empty;

    /// <summary>Parses the sources' files.</summary>
    /// <exception cref="Files.FileException">Something is wrong in one.</exception>
    public async Task LoadAsync(CancellationToken stop)
    {
        if (options.Sources is not { } folder)
            return;
        foreach (var file in Directory.GetFiles(folder, "*.yaml").Order(StringComparer.Ordinal))
        {
            var source = SourceFile.Parse(await File.ReadAllTextAsync(file, stop), catalogues.Keys, file);
            Sources = Sources.ContainsKey(source.Name)
                ? throw new Files.FileException([new(file, 1, 0, $"There are two sources named '{source.Name}'.")])
                : Sources.Add(source.Name, source);
        }
    }

    /// <summary>Reads a source now.</summary>
    /// <exception cref="RefusedException">There is no such source, or nothing of it can be taken.</exception>
    /// <exception cref="ConnectionException">It could not be read; what was known stays.</exception>
    public async Task<(SourceRead Read, IReadOnlyList<string> Problems)> ReadAsync(string name, Actor actor, CancellationToken stop)
    {
        if (!Sources.TryGetValue(name, out var source))
        {
            var otherwise = Sources.IsEmpty
                ? ". Start the service with --sources FOLDER."
                : $"; there are {string.Join(", ", Sources.Keys)}.";
            throw RefusedException.Unknown(
                "unknown-source",
                $"There is no source '{name}'{Spelling.DidYouMean(name, Sources.Keys, otherwise)}"
            );
        }

        try
        {
            return await TakeAsync(source, actor, stop);
        }
        catch (Exception error) when (error is ConnectionException or RefusedException or IOException)
        {
            await reads.PutAsync(new(name, clock.GetUtcNow(), 0, 0, error.Message), stop);
            throw;
        }
    }

    protected override Task ExecuteAsync(CancellationToken stoppingToken) =>
        duties.RunAsync(new("sources", Tick, ReadDueAsync), stoppingToken);

    private async Task ReadDueAsync(CancellationToken stop)
    {
        var last = (await reads.AllAsync(stop)).ToDictionary(r => r.Source, r => r.At);
        foreach (
            var source in Sources.Values.Where(s => s.Every is { } every && clock.GetUtcNow() - last.GetValueOrDefault(s.Name) > every)
        )
            await ReadByScheduleAsync(source.Name, stop);
    }

    /// <summary>Reads a source; whatever a directory answers must not keep the others from being read.</summary>
    private async Task ReadByScheduleAsync(string name, CancellationToken stop)
    {
        try
        {
            await ReadAsync(name, Actor.Schedule, stop);
        }
        catch (Exception error) when (error is ConnectionException or RefusedException or IOException)
        {
            log.LogError("Source {Source} was not read, and is read again by its schedule: {Why}", name, error.Message);
        }
        catch (Exception error) when (error is not (OperationCanceledException or StoreException or System.Data.Common.DbException))
        {
            log.LogError(error, "Source {Source} was not read, and is read again by its schedule", name);
            await reads.PutAsync(
                new(name, clock.GetUtcNow(), 0, 0, "Something went wrong that should not; the service's log says what."),
                stop
            );
        }
    }

    private async Task<(SourceRead Read, IReadOnlyList<string> Problems)> TakeAsync(
        DirectorySource source,
        Actor actor,
        CancellationToken stop
    )
    {
        var security = source.Security switch
        {
            "tls" => LdapSecurity.Tls,
            "starttls" => LdapSecurity.StartTls,
            _ => LdapSecurity.None,
        };
        var password = source.Password is { } asked ? await secrets.OfAsync(asked, stop) : null;
        string[] attributes =
        [
            .. source
                .Fields.Values.Append(source.Seen == SourceFile.SeenNow ? null : source.Seen)
                .OfType<string>()
                .Distinct(StringComparer.OrdinalIgnoreCase),
        ];
        var query = new LdapQuery(
            source.Server,
            source.Port,
            security,
            source.Bind,
            source.Base,
            source.Filter,
            attributes,
            source.PageSize
        );
        var problems = new List<string>();
        var met = new HashSet<string>(StringComparer.OrdinalIgnoreCase);
        var names = new HashSet<string>(StringComparer.OrdinalIgnoreCase);
        var machines = new List<ReportedMachine>();
        await foreach (var entry in LdapDirectory.ReadAsync(query, password, stop))
        {
            met.UnionWith(entry.Attributes.Keys);
            if (MachineOf(source, entry, problems) is not { } machine)
                continue;
            if (names.Add(machine.Name))
                machines.Add(machine);
            else
                problems.Add($"{entry.Name}: there is another entry with the name '{machine.Name}'. It was left out.");
        }

        if (machines.Count == 0 && problems.Count == 0)
            throw RefusedException.Conflict(
                "empty-source",
                $"No entry below '{source.Base}' fits the filter '{source.Filter}', or '{source.Bind ?? "nobody"}' may not see them."
            );
        // An attribute that no entry has is a mistake in the mapping rather than absent from every machine.
        foreach (var missing in attributes.Where(a => !met.Contains(a)))
            problems.Insert(
                0,
                $"No entry has an attribute '{missing}'. Is it spelt so in this directory's schema, and may "
                    + $"'{source.Bind ?? "nobody"}' read it?"
            );
        var kept = source.Fields.Where(f => !met.Contains(f.Value)).Select(f => f.Key).ToHashSet(StringComparer.Ordinal);
        var reported = machines.Select(m =>
            m with
            {
                Report = m.Report with { Covered = [.. m.Report.Covered.Where(k => !kept.Contains(k))] },
            }
        );
        var now = clock.GetUtcNow();
        var result = await fleet.ImportAsync(reported, source.Name, actor, now, stop);
        problems.AddRange(result.Waiting.Select(w => w.Why));
        var read = new SourceRead(
            source.Name,
            now,
            machines.Count,
            result.Added,
            problems.Count == 0 ? null
                : problems.Count == 1 ? problems[0]
                : $"{problems.Count} problems, the first: {problems[0]}"
        );
        await reads.PutAsync(read, stop);
        return (read, problems.Count <= MostTold ? problems : [.. problems.Take(MostTold), $"and {problems.Count - MostTold} more"]);
    }

    private ReportedMachine? MachineOf(DirectorySource source, LdapEntry entry, List<string> problems)
    {
        var now = clock.GetUtcNow();
        string? Of(string field) =>
            source.Fields.TryGetValue(field, out var attribute) && entry.Attributes.TryGetValue(attribute, out var values)
                ? string.Join(", ", values)
                : null;
        if (Of("name") is not { Length: > 0 and <= 200 } name || name.Any(char.IsControl))
        {
            problems.Add($"{entry.Name}: it has no '{source.Fields["name"]}' that can be a machine's name. It was left out.");
            return null;
        }

        var keys = source
            .Fields.Keys.Where(k => catalogues.Keys.Find(k) is not null && k is not ("name" or "site" or "group" or "owner"))
            .ToArray();
        var seen = now;
        if (source.Seen is { } attribute && attribute != SourceFile.SeenNow)
        {
            // What has no time must not win over what was read from the machine itself.
            var written = entry.Attributes.TryGetValue(attribute, out var times) ? times[0] : null;
            if (written is not null && TimeOf(written) is { } time)
                seen = time;
            else if (keys.Length > 0)
            {
                var why = written is null
                    ? $"it has no {attribute}"
                    : $"{attribute} is '{written}', expected a time such as 20270111080000Z";
                problems.Add($"{entry.Name}: {why}. Its readings were left out.");
                keys = [];
            }
        }

        var readings = ImmutableArray.CreateBuilder<Reading>();
        foreach (var key in keys)
        {
            if (Of(key) is not { } text)
                continue;
            var value = catalogues.Keys.Find(key)!.Parse(text, out var expected);
            if (value is null)
                problems.Add($"{entry.Name}: {key} ({source.Fields[key]}) is '{text}', expected {expected}. It was taken as unreadable.");
            readings.Add(
                value is null
                    ? Reading.Unreadable(key, $"the directory said '{text}', expected {expected}", seen, now, source.Name)
                    : Reading.Of(key, value, seen, now, source.Name)
            );
        }

        return new(
            0,
            name,
            Of("serial") is { Length: > 0 } serial ? [new("serial", serial)] : [],
            Of("site"),
            Of("group"),
            Of("owner"),
            Of("tags") is { } tags ? [.. tags.Split([' ', ','], StringSplitOptions.RemoveEmptyEntries)] : null,
            null,
            new(source.Name, [.. keys], readings.ToImmutable()),
            seen
        );
    }

    /// <summary>A generalized time (RFC 4517 §3.3.13) in UTC; null where it is none.</summary>
    private static DateTimeOffset? TimeOf(string text) =>
        DateTimeOffset.TryParseExact(
            text.Split('.')[0].TrimEnd('Z'),
            "yyyyMMddHHmmss",
            CultureInfo.InvariantCulture,
            DateTimeStyles.AssumeUniversal,
            out var time
        )
            ? time
            : null;
}
