using System.Collections.Concurrent;
using System.Security.Claims;
using System.Security.Cryptography;
using System.Text;
using GrandStair.Contracts;
using GrandStair.Core.Access;
using GrandStair.Core.Readings;
using GrandStair.Core.Refusals;
using GrandStair.Engine.Catalogue;
using GrandStair.Engine.Clocks;
using GrandStair.Files;
using GrandStair.Files.Fleet;
using GrandStair.Service.Access;
using GrandStair.Service.Requests;
using GrandStair.Storage.Databases;
using GrandStair.Storage.Fleet;
using GrandStair.Storage.Runs;
using Microsoft.AspNetCore.Http.Features;
using Microsoft.AspNetCore.Mvc;

namespace GrandStair.Service.Fleet;

/// <summary>The imports that this service is busy with, by what is the same for the same file.</summary>
internal sealed class ImportsRunning
{
    private readonly ConcurrentDictionary<string, byte> _digests = new();

    /// <summary>Takes a file in hand.</summary>
    /// <exception cref="RefusedException">Another call has the same file in hand.</exception>
    public void Take(string digest)
    {
        if (!_digests.TryAdd(digest, 0))
            throw RefusedException.Conflict(
                "import-running",
                "This very file is being imported already. 'gstair fleet imports' shows how far it is."
            );
    }

    public void Leave(string digest) => _digests.TryRemove(digest, out _);
}

/// <summary>Fleet files that are taken in.</summary>
internal static class ImportEndpoints
{
    private const long MostBytes = 1L << 30;
    private const long MostMappingBytes = 1 << 20;
    private const int MostShown = 50;
    private const int BufferSize = 1 << 16;

    // Readings of these sources are the service's own: what machines said, and what follows from other machines and routes.
    private static readonly string[] ReservedSources =
    [
        "ssh",
        "simulated",
        "fleet",
        "dependents",
        "route",
        Successors.Computed,
        RunLog.RunSource,
    ];

    public static void MapImports(this RouteGroupBuilder api)
    {
        // What a form adds to its file is little.
        api.MapPost("/fleet/imports", ImportAsync)
            .Accepts<string>("text/csv", "application/jsonl", "multipart/form-data")
            .DisableAntiforgery()
            .WithMetadata(new RequestSizeLimitAttribute(MostBytes + (1 << 20)))
            .Lasts()
            .WithName("ImportFleet")
            .ProducesProblem(409)
            .ProducesProblem(422);
        api.MapGet("/fleet/imports", async (ImportTable imports, CancellationToken stop) =>
                (await imports.NewestAsync(MostShown, stop)).Select(Show).ToArray()
            )
            .WithName("ListImports");
        api.MapPost(
                "/fleet/imports/{import:long}/undo",
                async (
                    long import,
                    Because because,
                    RemovalTable removals,
                    ClaimsPrincipal caller,
                    DomainClock clock,
                    CancellationToken stop
                ) =>
                {
                    var undone = await removals.UndoAsync(
                        import,
                        RequestFields.Reason(because.Reason),
                        caller.Actor(),
                        clock.GetUtcNow(),
                        stop
                    );
                    return new ImportUndoneView(undone.Removed, undone.Restored);
                }
            )
            .WithName("UndoImport")
            .ProducesProblem(404)
            .ProducesProblem(409);
    }

    private static ImportView Show(FleetImport i) =>
        new(i.Id, i.Ticket, i.Source, i.Actor, i.Begun, i.Ended, i.Lines, i.Line, i.Added, i.Updated)
        {
            Undone = i.Undone,
            UndoneBy = i.UndoneBy,
            CanBeUndone = i.CanBeUndone,
        };

    private static async Task<ImportReport> ImportAsync(
        HttpRequest request,
        [AsParameters] ImportQuery asked,
        CatalogueCache catalogues,
        FleetTable table,
        ImportTable imports,
        ImportsRunning running,
        ScopedFleet fleet,
        DomainClock clock,
        ServiceOptions options,
        ClaimsPrincipal caller,
        CancellationToken stop
    )
    {
        var (source, seen, dry, format, encoding, ticket) = asked;
        var now = clock.GetUtcNow();
        var from = source ?? "import";
        if (ReservedSources.Contains(from) || from.Length > 40)
            throw RefusedException.Invalid(
                "source",
                $"'{from}' is no name for an import's source; expected at most 40 characters, and none of "
                    + $"{string.Join(", ", ReservedSources)}, by which the service itself names what it knows."
            );
        if (ticket is { Length: > 100 })
            throw RefusedException.Invalid("ticket", "The ticket has more than 100 characters.");
        var characters = EncodingOf(encoding);
        var seenAt = SeenAt(seen, now);
        var jsonLines = IsJsonLines(format);
        // The file is spooled first, so that a slow sender holds nothing up and the memory stays as it is however long the file is.
        var path = Path.Combine(options.Data, $"import-{Guid.NewGuid():N}");
        await using var spool = new FileStream(
            path,
            new FileStreamOptions
            {
                Mode = FileMode.CreateNew,
                Access = FileAccess.ReadWrite,
                Options = FileOptions.Asynchronous,
            }
        );
        // Without a name it is gone with the process, however that ends.
        File.Delete(path);
        FleetMapping? mapping = null;
        var mappingText = "";
        string digest;
        int lineCount;
        if (request.HasFormContentType)
        {
            var form = await request.ReadFormAsync(new FormOptions { MultipartBodyLengthLimit = MostBytes }, stop);
            if (form.Files["mapping"] is { } mapped)
            {
                if (mapped.Length > MostMappingBytes)
                    throw new FileException([
                        new(mapped.FileName, 1, 0, $"The mapping has {mapped.Length} bytes; expected at most {MostMappingBytes}."),
                    ]);
                using var yaml = new StreamReader(mapped.OpenReadStream());
                mappingText = await yaml.ReadToEndAsync(stop);
                mapping = FleetMapping.Parse(mappingText, catalogues.Keys, mapped.FileName);
            }

            await using var sent = (
                form.Files["file"] ?? throw RefusedException.Invalid("no-file", "The form has no part 'file'.")
            ).OpenReadStream();
            (digest, lineCount) = await SpoolAsync(sent, spool, encoding, stop);
        }
        else
        {
            (digest, lineCount) = await SpoolAsync(new BoundedStream(request.Body, MostBytes), spool, encoding, stop);
        }

        spool.Position = 0;
        using var reader = new StreamReader(spool, characters, detectEncodingFromByteOrderMarks: true, BufferSize, leaveOpen: true);
        var file = new FleetFile(reader, "the file", new(from, seenAt, mapping, jsonLines), catalogues.Keys, now);
        var refused = new List<(int Line, string Why)>();
        var lines = 0;
        IEnumerable<ReportedMachine> Lines()
        {
            foreach (var machine in file.Lines())
            {
                lines++;
                if (options.Pace > 1 && machine.Connection is { Kind: not "simulated" })
                {
                    if (refused.Count < FleetFile.MostProblems)
                        refused.Add(
                            (
                                machine.Line,
                                $"'{machine.Name}' is reached by {machine.Connection.Kind}, and this service runs at pace "
                                    + $"{options.PaceName}, which is for simulated machines alone. The line was left out; import it into a "
                                    + $"service at pace 1."
                            )
                        );
                    continue;
                }

                yield return machine;
            }
        }

        if (dry == true)
        {
            var known = (await fleet.AllAsync(stop))
                .Values.Where(m => m.IsInFleet)
                .Select(m => m.Name)
                .ToHashSet(StringComparer.OrdinalIgnoreCase);
            var (adds, updates) = (0, 0);
            foreach (var machine in Lines())
                _ = known.Contains(machine.Name) ? updates++ : adds++;
            return new(adds, updates, lines, true, null, Told(file, refused), Groups(file, refused));
        }

        var same = $"{digest} {from} {seen} {format} {encoding} {mappingText}";
        running.Take(same);
        try
        {
            var import = await imports.BeginAsync(
                Convert.ToHexStringLower(SHA256.HashData(Encoding.UTF8.GetBytes(same))),
                ticket,
                from,
                caller.Actor(),
                lineCount,
                now,
                stop
            );
            var result = await TakeAsync(table, imports, import, Lines(), caller.Actor(), now, stop);
            return new(
                import.Added + result.Added,
                import.Updated + result.Updated,
                lines,
                false,
                import.Line > 0 ? import.Line : null,
                Told(file, [.. refused, .. result.Waiting]),
                Groups(file, [.. refused, .. result.Waiting])
            );
        }
        finally
        {
            running.Leave(same);
        }
    }

    /// <summary>Takes what an import that was cut short has not taken yet.</summary>
    /// <exception cref="StoreException">The disk is full; what was taken stays.</exception>
    private static async Task<ImportResult> TakeAsync(
        FleetTable table,
        ImportTable imports,
        FleetImport import,
        IEnumerable<ReportedMachine> machines,
        Actor actor,
        DateTimeOffset now,
        CancellationToken stop
    )
    {
        try
        {
            return await table.ImportAsync(machines.SkipWhile(m => m.Line <= import.Line), import.Source, actor, now, stop, import.Id);
        }
        catch (FileException)
        {
            // Its first line is wrong: there is nothing to go on with.
            await imports.ForgetAsync(import.Id, stop);
            throw;
        }
        catch (StoreException error) when (error.Name == "disk-full")
        {
            var taken = (await imports.FindAsync(import.Id, stop))!;
            throw new StoreException(
                "disk-full",
                $"The database cannot be written: its disk is full. "
                    + $"{(taken.Line == 0 ? "Nothing of the file was taken" : $"The file was taken up to line {taken.Line}")}. Make room "
                    + $"on the disk, then import the same file again; it goes on from there.",
                error
            );
        }
    }

    /// <summary>Stores what is sent, with its digest and number of lines.</summary>
    /// <exception cref="FileException">It is not in the encoding that it is said to have: names in it would become others.</exception>
    private static async Task<(string Digest, int Lines)> SpoolAsync(
        Stream sent,
        FileStream spool,
        string? encoding,
        CancellationToken stop
    )
    {
        var check = new EncodingCheck();
        using var hash = IncrementalHash.CreateHash(HashAlgorithmName.SHA256);
        var buffer = new byte[BufferSize];
        var lines = 0;
        var last = (byte)'\n';
        int read;
        while ((read = await sent.ReadAsync(buffer, stop)) > 0)
        {
            hash.AppendData(buffer, 0, read);
            check.Add(buffer.AsSpan(0, read), lines + 1);
            lines += buffer.AsSpan(0, read).Count((byte)'\n');
            last = buffer[read - 1];
            await spool.WriteAsync(buffer.AsMemory(0, read), stop);
        }

        check.End(lines + 1);
        if (check is { WrongLine: { } wrong, HasOtherMark: false } && encoding != "windows-1252")
            throw new FileException([
                new(
                    "the file",
                    wrong,
                    0,
                    "This line is not in UTF-8. Nothing was imported. If the file was written in windows-1252, say so: --encoding "
                        + "windows-1252."
                ),
            ]);
        if (check is { WrongLine: null, IsPlain: false } && encoding == "windows-1252")
            throw new FileException([
                new(
                    "the file",
                    1,
                    0,
                    "The file is in UTF-8 and was said to be in windows-1252; its names would be wrong. Nothing was imported. Leave "
                        + "--encoding out."
                ),
            ]);
        return (Convert.ToHexStringLower(hash.GetHashAndReset()), last == '\n' ? lines : lines + 1);
    }

    private static IReadOnlyList<LineProblem> Told(FleetFile file, IEnumerable<(int Line, string Why)> more)
    {
        var told = file
            .Problems.Select(p => new LineProblem(p.Line, p.Message))
            .Concat(more.Select(w => new LineProblem(w.Line, w.Why)))
            .OrderBy(p => p.Line);
        return file.FurtherProblems == 0
            ? [.. told]
            : [.. told, new(0, $"{file.FurtherProblems} more problems are not listed; fix these first.")];
    }

    private static IReadOnlyList<ProblemGroup> Groups(FleetFile file, IReadOnlyList<(int Line, string Why)> more)
    {
        IEnumerable<ProblemGroup> ours =
            more.Count == 0 ? [] : [new("machines that were not taken", more.Count, more.Min(m => m.Line), more.MinBy(m => m.Line).Why)];
        return [.. file.Groups.Select(g => new ProblemGroup(g.What, g.Count, g.FirstLine, g.Example)), .. ours];
    }

    private static Encoding EncodingOf(string? name) =>
        name switch
        {
            null or "utf-8" => new UTF8Encoding(encoderShouldEmitUTF8Identifier: false, throwOnInvalidBytes: false),
            "windows-1252" => CodePagesEncodingProvider.Instance.GetEncoding(1252)!,
            _ => throw RefusedException.Invalid("encoding", $"encoding is '{name}'; expected utf-8 or windows-1252."),
        };

    private static bool IsJsonLines(string? format) =>
        format switch
        {
            null or "csv" => false,
            "jsonl" => true,
            _ => throw RefusedException.Invalid("format", $"format is '{format}'; expected csv or jsonl."),
        };

    private static DateTimeOffset? SeenAt(string? seen, DateTimeOffset now)
    {
        if (seen is null)
            return null;
        if (seen == "now")
            return now;
        if (ReadingValue.Parse(ValueKind.Instant, seen, out var expected) is not { } value)
            throw RefusedException.Invalid("seen", $"seen is '{seen}'; expected 'now' or {expected}.");
        var at = DateTimeOffset.FromUnixTimeSeconds((long)value.Amount);
        return at <= now + FleetFile.ClockSkew
            ? at
            : throw RefusedException.Invalid("seen", $"seen is '{seen}', which lies in the future; it is {now:yyyy-MM-dd HH:mm} UTC now.");
    }

    /// <summary>How a fleet file is to be read.</summary>
    /// <param name="Source">The name of its source; null for <c>import</c>.</param>
    /// <param name="Seen">When its readings were seen; null where its lines say so.</param>
    /// <param name="Dry">Whether nothing is kept.</param>
    /// <param name="Format"><c>csv</c> or <c>jsonl</c>; null for CSV.</param>
    /// <param name="Encoding">Its characters; null for UTF-8.</param>
    /// <param name="Ticket">The change ticket that it belongs to; null for none.</param>
    private sealed record ImportQuery(
        [FromQuery(Name = "source")] string? Source,
        [FromQuery(Name = "seen")] string? Seen,
        [FromQuery(Name = "dry")] bool? Dry,
        [FromQuery(Name = "format")] string? Format,
        [FromQuery(Name = "encoding")] string? Encoding,
        [FromQuery(Name = "ticket")] string? Ticket
    );
}
