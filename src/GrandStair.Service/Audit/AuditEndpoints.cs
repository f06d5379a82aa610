using System.Globalization;
using System.Text;
using GrandStair.Contracts;
using GrandStair.Core.Audit;
using GrandStair.Core.Readings;
using GrandStair.Core.Refusals;
using GrandStair.Files.Audit;
using GrandStair.Service.Access;
using GrandStair.Storage.Audit;
using Microsoft.AspNetCore.Mvc;

namespace GrandStair.Service.Audit;

/// <summary>The audit log: list, export, verify.</summary>
internal static class AuditEndpoints
{
    private const int Part = 1000;
    private const int MostItems = 1000;
    private const int Usual = 100;

    public static void MapAudit(this RouteGroupBuilder api)
    {
        api.MapGet("/audit", ListAsync).WithName("ListAudit").ProducesProblem(409);
        api.MapGet("/audit/export", ExportAsync).Lasts().WithName("ExportAudit").Produces<string>(200, "application/jsonl");
        api.MapGet("/audit/verdict", VerifyAsync).Lasts().WithName("VerifyAudit");
    }

    private static async Task<Page<AuditView>> ListAsync(
        [AsParameters] AuditQuery asked,
        AuditTable audit,
        ScopedFleet fleet,
        CancellationToken stop
    )
    {
        var (actor, command, subject, machine, since, until, limit, cursor) = asked;
        if (limit is < 1 or > MostItems)
            throw RefusedException.Invalid("limit", $"limit is {limit}; expected 1 to {MostItems}.");
        long? before = null;
        if (cursor is not null)
            before = long.TryParse(cursor, NumberStyles.None, CultureInfo.InvariantCulture, out var number)
                ? number
                : throw RefusedException.Invalid(
                    "cursor",
                    $"'{cursor}' is no cursor of this list; take the one that the last part gave as 'next'."
                );
        var of = machine is null ? (MachineId?)null : (await fleet.MachineAsync(machine, stop)).Id;
        var his = fleet.Sites.IsAll ? null : (await fleet.AllAsync(stop)).Keys.ToHashSet();
        var most = limit ?? Usual;
        var question = new AuditQuestion(actor, command, subject, of, Moment("since", since), Moment("until", until), his);
        var entries = await audit.NewestAsync(question, before, most + 1, stop);
        var total = entries.Count <= most && cursor is null ? entries.Count : await audit.CountAsync(question, stop);
        var machines = await fleet.AllAsync(stop);
        return new(
            [.. entries.Take(most).Select(e => Show(e, machines, fleet.Sites.IsAll))],
            entries.Count > most ? entries[most - 1].Entry.Number.ToString(CultureInfo.InvariantCulture) : null,
            total
        );
    }

    private static DateTimeOffset? Moment(string what, string? text)
    {
        if (text is null)
            return null;
        return ReadingValue.Parse(ValueKind.Instant, text, out var expected) is { } value
            ? DateTimeOffset.FromUnixTimeSeconds((long)value.Amount)
            : throw RefusedException.Invalid(what, $"{what} is '{text}'; expected {expected}.");
    }

    private static AuditView Show(SealedEntry e, IReadOnlyDictionary<MachineId, Machine> machines, bool whole) =>
        new(
            e.Entry.Number,
            e.Entry.At,
            e.Entry.Actor,
            e.Entry.From,
            e.Entry.Command,
            e.Entry.Subject,
            e.Entry.Machine is { } id ? machines.GetValueOrDefault(new(id))?.Name ?? $"m{id}" : null,
            e.Entry.Before,
            e.Entry.After,
            e.Entry.Reason,
            whole ? e.Hash : null
        );

    /// <summary>The sealed audit as JSON Lines: first the public key, then the seals, then every entry with its hash.</summary>
    private static IResult ExportAsync(AuditTable audit, AuditKey key, HttpContext context) =>
        Results.Stream(
            async stream =>
            {
                var stop = context.RequestAborted;
                await using var writer = new StreamWriter(stream, new UTF8Encoding(false));
                await writer.WriteLineAsync(AuditExport.KeyLine(key.PublicPem));
                foreach (var seal in await audit.SealsAsync(stop))
                    await writer.WriteLineAsync(AuditExport.SealLine(seal));
                long last = 0;
                while (await audit.AfterAsync(last, Part, stop) is { Count: > 0 } entries)
                {
                    foreach (var entry in entries.Where(e => e.Hash is not null))
                        await writer.WriteLineAsync(AuditExport.EntryLine(entry));
                    last = entries[^1].Entry.Number;
                }
            },
            "application/jsonl",
            "audit.jsonl"
        );

    private static async Task<AuditVerdict> VerifyAsync(AuditSealer sealer, AuditKey key, CancellationToken stop)
    {
        var (check, seals) = await sealer.VerifyAsync(stop);
        return new(
            check.Number,
            check.Unsealed,
            seals,
            check.Head ?? "",
            key.Id,
            [.. check.Faults.Select(f => new AuditFaultView(f.Number, f.What))]
        );
    }

    /// <summary>Which audit entries are asked for; null stands for all.</summary>
    /// <param name="Actor">Who did it.</param>
    /// <param name="Command">What was done.</param>
    /// <param name="Subject">What it was done to.</param>
    /// <param name="Machine">The machine that it was done to.</param>
    /// <param name="Since">From when on.</param>
    /// <param name="Until">Until when.</param>
    /// <param name="Limit">How many at most.</param>
    /// <param name="Cursor">Where to go on.</param>
    private sealed record AuditQuery(
        [FromQuery(Name = "actor")] string? Actor,
        [FromQuery(Name = "command")] string? Command,
        [FromQuery(Name = "subject")] string? Subject,
        [FromQuery(Name = "machine")] string? Machine,
        [FromQuery(Name = "since")] string? Since,
        [FromQuery(Name = "until")] string? Until,
        [FromQuery(Name = "limit")] int? Limit,
        [FromQuery(Name = "cursor")] string? Cursor
    );
}
