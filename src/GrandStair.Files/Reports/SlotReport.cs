using System.Globalization;
using CsvHelper;
using CsvHelper.Configuration;
using GrandStair.Core.Readings;
using GrandStair.Core.Waves;
using GrandStair.Files.Calendars;

namespace GrandStair.Files.Reports;

/// <summary>A machine of a plan with its time.</summary>
/// <param name="Machine">The machine.</param>
/// <param name="Wave">Its wave.</param>
/// <param name="Status">Its status.</param>
/// <param name="Method">Its method; null where there is none.</param>
/// <param name="Start">When it begins, UTC; null without a time.</param>
/// <param name="End">When it ends, UTC; null without a time.</param>
/// <param name="Stands">Whether that is its confirmed slot; otherwise it is only planned.</param>
/// <param name="Crew">The crew that is booked.</param>
/// <param name="Why">What is in the way; null where nothing is.</param>
/// <param name="Change">What would have to change for it to get a slot.</param>
/// <param name="WaveNumber">The wave's number, from 1.</param>
/// <param name="To">The release that it goes to.</param>
/// <param name="Changes">How often its time has changed.</param>
/// <param name="Changed">When its time last changed, UTC; null where it has never had one.</param>
public sealed record SlotLine(
    Machine Machine,
    string Wave,
    string Status,
    string? Method,
    DateTimeOffset? Start,
    DateTimeOffset? End,
    bool Stands,
    string? Crew,
    string? Why,
    string? Change,
    int WaveNumber,
    string To,
    int Changes,
    DateTimeOffset? Changed
)
{
    /// <summary>Whether the machine's owner has to be there.</summary>
    public bool OwnerPresent { get; init; }
}

/// <summary>A plan's slots as a file: for a calendar, for a spreadsheet, and for a change meeting.</summary>
/// <param name="Plan">The plan.</param>
/// <param name="Target">The target in words.</param>
/// <param name="Revision">The plan's revision.</param>
/// <param name="RevisedBy">Who wrote it.</param>
/// <param name="At">When the file is made, UTC.</param>
/// <param name="Slots">The machines by time.</param>
/// <param name="Approvals">What was approved and what was not, in sentences.</param>
public sealed record SlotReport(
    Plan Plan,
    string Target,
    int Revision,
    string RevisedBy,
    DateTimeOffset At,
    IReadOnlyList<SlotLine> Slots,
    IReadOnlyList<string> Approvals
)
{
    /// <summary>The slots as appointments.</summary>
    public IEnumerable<Appointment> Appointments() =>
        Slots
            .Where(s => s.Start is not null && s.End is not null)
            .Select(s => new Appointment(
                $"{s.Machine.Id}@{Plan.Name}.grandstair",
                s.Start!.Value,
                s.End!.Value,
                $"{s.Machine.Name} to {s.To}{(s.Stands ? "" : " (scheduled)")}",
                $"Wave {s.Wave} of {Plan.Name}, by {s.Method}{(s.Crew is null ? "" : $", with {s.Crew}")}."
                    + $"{(s.OwnerPresent ? $" {s.Machine.Owner} has to be there." : "")}",
                s.Machine.Site
            )
            {
                Changes = s.Changes,
                Changed = s.Changed ?? At,
                IsTentative = !s.Stands,
            });

    /// <summary>One line a machine (RFC 4180). Cells that a spreadsheet would take for a formula get an apostrophe before them.</summary>
    public string Csv()
    {
        using var text = new StringWriter(CultureInfo.InvariantCulture);
        using var csv = new CsvWriter(
            text,
            new CsvConfiguration(CultureInfo.InvariantCulture) { InjectionOptions = InjectionOptions.Escape, NewLine = "\r\n" }
        );
        foreach (
            var head in new[]
            {
                "name",
                "site",
                "group",
                "owner",
                "wave",
                "status",
                "method",
                "from (UTC)",
                "to (UTC)",
                "confirmed",
                "crew",
                "owner has to be there",
                "why not",
                "what would have to change",
            }
        )
            csv.WriteField(head);
        csv.NextRecord();
        foreach (var s in Slots)
        {
            foreach (
                var cell in new[]
                {
                    s.Machine.Name,
                    s.Machine.Site,
                    s.Machine.Group,
                    s.Machine.Owner,
                    s.Wave,
                    s.Status,
                    s.Method,
                    Time(s.Start),
                    Time(s.End),
                    s.Start is null ? ""
                    : s.Stands ? "yes"
                    : "scheduled",
                    s.Crew,
                    s.OwnerPresent ? "yes" : "",
                    s.Why,
                    s.Change,
                }
            )
                csv.WriteField(SpreadsheetCell.Safe(cell ?? ""));
            csv.NextRecord();
        }

        csv.Flush();
        return text.ToString();
    }

    /// <summary>The plan on one page that stands alone: what, why, when, who is asked, and what cannot be scheduled.</summary>
    public string Html()
    {
        using var page = new StringWriter(CultureInfo.InvariantCulture);
        StandAlonePage.Begin(page, $"{Plan.Name} to {Target}");
        page.Write($"<h1>{StandAlonePage.Text($"{Plan.Name}: {Slots.Count} machines to {Target}")}</h1>");
        Line(
            $"Revision {Revision} by {RevisedBy}{(Plan.ChangeRecord is { } record ? $", change record {record}" : "")}, as of "
                + $"{Time(At)} UTC"
        );
        Line($"Scope: {Plan.Scope.Text}");
        Line(
            $"{(Limits.Shown(Plan.Limits.All) is { } all ? $"At most {all} at once" : "Any number at once")}"
                + $"{(Limits.Shown(Plan.Limits.Site) is { } atOneSite ? $", at most {atOneSite} at one site" : "")}. "
                + $"The next wave begins when {Plan.Advance.Verified * 100:0} % are verified for "
                + $"{Units.Show(Plan.Advance.Soak.TotalSeconds, ValueKind.Duration)}, with at most {Plan.Advance.Failures} failed."
        );
        if (Plan.Deadline is { } deadline)
            Line($"Deadline: {deadline:yyyy-MM-dd}. The last slot ends {Time(Slots.Max(s => s.End)) ?? "at no time yet"}.");
        foreach (var approval in Approvals)
            Line($"Approval, {approval}");

        StandAlonePage.Table(
            page,
            "Waves",
            ["wave", "#machines", "#with a time", "first begins (UTC)", "last ends (UTC)"],
            Slots
                .GroupBy(s => (s.WaveNumber, s.Wave))
                .OrderBy(g => g.Key.WaveNumber)
                .Select(g =>
                    new[]
                    {
                        g.Key.Wave,
                        $"{g.Count()}",
                        $"{g.Count(s => s.Start is not null)}",
                        Time(g.Min(s => s.Start)),
                        Time(g.Max(s => s.End)),
                    }
                )
        );
        StandAlonePage.Table(page, "Freezes", ["for", "why"], Plan.Freezes.Select(c => new[] { c.For.ToString(), c.Why }));
        var without = Slots.Where(s => s.Start is null && s.Why is not null).ToArray();
        StandAlonePage.Table(
            page,
            $"Without a time: {without.Length}",
            ["machine", "site", "wave", "why", "what would have to change"],
            without.Select(s => new[] { s.Machine.Name, s.Machine.Site, s.Wave, s.Why, s.Change })
        );
        foreach (
            var site in Slots
                .Where(s => s.Start is not null)
                .GroupBy(s => s.Machine.Site)
                .OrderBy(g => g.Key, StringComparer.OrdinalIgnoreCase)
        )
        {
            StandAlonePage.Table(
                page,
                $"{site.Key}: {site.Count()}",
                ["from (UTC)", "to (UTC)", "machine", "wave", "method", "crew", "has to be there", "status"],
                site.Select(s =>
                    new[]
                    {
                        Time(s.Start),
                        Time(s.End),
                        s.Machine.Name,
                        s.Wave,
                        s.Method,
                        s.Crew,
                        s.OwnerPresent ? s.Machine.Owner : "",
                        s.Status.Replace('-', ' '),
                    }
                )
            );
        }

        StandAlonePage.End(page);
        return page.ToString();

        void Line(string text) => page.Write($"<p class=\"hint\">{StandAlonePage.Text(text)}</p>\n");
    }

    private static string? Time(DateTimeOffset? time) => time?.UtcDateTime.ToString("yyyy-MM-dd HH:mm", CultureInfo.InvariantCulture);
}
