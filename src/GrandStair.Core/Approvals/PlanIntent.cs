using System.Collections.Immutable;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Readings;

namespace GrandStair.Core.Approvals;

/// <summary>A machine of a plan, as far as it is part of what is approved.</summary>
/// <param name="Machine">The machine.</param>
/// <param name="Wave">The number of its wave, from 1.</param>
/// <param name="Method">The method that a person chose for it; null where it follows the plan's order.</param>
public sealed record IntentMember(MachineId Machine, int Wave, string? Method);

/// <summary>A calendar that a plan names.</summary>
/// <param name="Name">Its name.</param>
/// <param name="Hash">The SHA-256 of its text, in hexadecimal.</param>
/// <param name="Loaded">When it was loaded last, UTC.</param>
/// <param name="LoadedBy">Who loaded it.</param>
public sealed record IntentCalendar(string Name, string Hash, DateTimeOffset Loaded, string LoadedBy);

/// <summary>
/// What a plan is going to do: its text, the catalogue with every script and what each method preserves, which machines are in which wave,
/// and the methods that people chose. Single slots are not part of it.
/// </summary>
/// <param name="Text">The plan's text.</param>
/// <param name="CatalogueHash">The hash of the catalogue content that it is made with.</param>
/// <param name="Members">Its machines.</param>
/// <param name="Calendars">The calendars that it names, by name.</param>
public sealed record PlanIntent(
    string Text,
    string CatalogueHash,
    ImmutableArray<IntentMember> Members,
    ImmutableArray<IntentCalendar> Calendars
)
{
    /// <summary>The SHA-256, in hexadecimal, of the intent of the whole plan or of one wave.</summary>
    /// <param name="wave">The wave's number; null for the whole plan.</param>
    /// <param name="withCalendars">Whether what the calendars say is part of it.</param>
    public string Hash(int? wave, bool withCalendars)
    {
        var members = Members
            .Where(m => wave is null || m.Wave == wave)
            .OrderBy(m => m.Machine.Value)
            .Select(m => $"{m.Machine}:{m.Wave}:{m.Method}");
        var calendars = withCalendars ? Calendars.Select(c => $"\n{c.Name} {c.Hash}") : [];
        return FileChange.Hash($"{Text}\n{CatalogueHash}\n{string.Join(' ', members)}{string.Concat(calendars)}");
    }
}

/// <summary>A change of a plan's intent that somebody made.</summary>
/// <param name="Number">Its place among the changes of the plan, from 1.</param>
/// <param name="At">When, UTC.</param>
/// <param name="By">Who.</param>
/// <param name="What">What, such as <c>revision 3</c>.</param>
public sealed record IntentChange(int Number, DateTimeOffset At, string By, string What);

/// <summary>Somebody's approval of what a plan, or a wave of it, is going to do.</summary>
/// <param name="Subject"><c>plan</c>, or the wave's name behind <c>wave </c>.</param>
/// <param name="Intent">The hash of what was approved.</param>
/// <param name="Revision">The plan's revision at that time.</param>
/// <param name="Changes">How many changes of the intent there had been.</param>
/// <param name="By">Who approved it.</param>
/// <param name="At">When, UTC.</param>
/// <param name="Reason">What was said with it.</param>
public sealed record Approval(string Subject, string Intent, int Revision, int Changes, string By, DateTimeOffset At, string Reason);
