using System.Collections.Immutable;
using System.Text.Json;
using System.Text.Json.Serialization;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Gates;
using GrandStair.Core.Scheduling;

namespace GrandStair.Core.Runs;

/// <summary>Something that happened to a run. Events are only ever added; their names and shapes stay readable for ever.</summary>
/// <param name="At">When it happened, UTC.</param>
/// <param name="Actor">Who or what made it happen, such as <c>planner</c> or <c>worker</c>.</param>
[JsonPolymorphic(TypeDiscriminatorPropertyName = "type")]
[JsonDerivedType(typeof(RunOpened), "run-opened")]
[JsonDerivedType(typeof(GateJudged), "gate-judged")]
[JsonDerivedType(typeof(OrderEnded), "order-ended")]
[JsonDerivedType(typeof(OrderOverdue), "order-overdue")]
[JsonDerivedType(typeof(Compared), "compared")]
[JsonDerivedType(typeof(SlotOpened), "slot-opened")]
[JsonDerivedType(typeof(SlotMoved), "slot-moved")]
[JsonDerivedType(typeof(Decided), "decided")]
[JsonDerivedType(typeof(FollowUpAdded), "follow-up-added")]
[JsonDerivedType(typeof(FollowUpAssigned), "follow-up-assigned")]
[JsonDerivedType(typeof(FollowUpClosed), "follow-up-closed")]
[JsonDerivedType(typeof(FollowUpScriptBegun), "follow-up-script-begun")]
[JsonDerivedType(typeof(FollowUpScriptEnded), "follow-up-script-ended")]
[JsonDerivedType(typeof(RollbackExtended), "rollback-extended")]
[JsonDerivedType(typeof(RollbackCategorised), "rollback-categorised")]
[JsonDerivedType(typeof(Settled), "settled")]
public abstract record RunEvent(DateTimeOffset At, string Actor)
{
    /// <summary>The version of the events written now; stored beside each.</summary>
    public const int Version = 1;

    /// <summary>How events and states are written as JSON.</summary>
    public static JsonSerializerOptions Json { get; } =
        new(JsonSerializerDefaults.Web)
        {
            Converters = { new JsonStringEnumConverter(JsonNamingPolicy.KebabCaseLower), new OrderNameConverter() },
            DefaultIgnoreCondition = JsonIgnoreCondition.WhenWritingNull,
            IgnoreReadOnlyProperties = true,
            AllowOutOfOrderMetadataProperties = true,
        };

    /// <summary>The event's type as it is stored.</summary>
    [JsonIgnore]
    public string Type => JsonNamingPolicy.KebabCaseLower.ConvertName(GetType().Name);
}

/// <summary>A run was opened.</summary>
public sealed record RunOpened(
    DateTimeOffset At,
    string Actor,
    long Run,
    long Machine,
    string Plan,
    int Revision,
    string Wave,
    string CatalogueHash,
    ImmutableArray<LegSpec> Legs,
    Slot Slot,
    int? CatchUp = null
) : RunEvent(At, Actor)
{
    /// <summary>The id of the second machine, for a method that goes side by side; null for any other.</summary>
    public long? Successor { get; init; }
}

/// <summary>A gate was judged.</summary>
/// <param name="At">When, UTC.</param>
/// <param name="Actor">Who judged.</param>
/// <param name="Order">The order that asked for it.</param>
/// <param name="State">What came of it.</param>
/// <param name="InTheWay">The musts in the way, with what was seen, in sentences.</param>
/// <param name="Cautions">The recommended checks that do not hold; after the verification each becomes a follow-up.</param>
public sealed record GateJudged(
    DateTimeOffset At,
    string Actor,
    OrderName Order,
    GateState State,
    ImmutableArray<Noted> InTheWay,
    ImmutableArray<Noted> Cautions
) : RunEvent(At, Actor);

/// <summary>A check that does not hold, as it is noted in a run's log.</summary>
/// <param name="Check">The check's name.</param>
/// <param name="Title">What it makes sure of.</param>
/// <param name="Seen">What was seen.</param>
/// <param name="Fix">How it is fixed.</param>
public sealed record Noted(string Check, string Title, string Seen, string Fix)
{
    /// <summary>The file name of the script that fixes it; null where none does.</summary>
    public string? Script { get; init; }

    /// <summary>Whether that script restarts the machine.</summary>
    public bool Restarts { get; init; }
}

/// <summary>How an order ended.</summary>
public enum OrderResult
{
    /// <summary>Well.</summary>
    Ok,

    /// <summary>Not well.</summary>
    Failed,

    /// <summary>It was begun and is gone without a result, as after a power cut.</summary>
    Gone,

    /// <summary>It will never be done: an order of a higher epoch or the machine itself refused it.</summary>
    Refused,

    /// <summary>A person answered that it cannot be done.</summary>
    NotPossible,

    /// <summary>What was waited for did not come before the slot's latest start of the point of no return.</summary>
    TooLate,

    /// <summary>The machine was read, and the condition until which a step patches does not hold yet.</summary>
    NotYet,
}

/// <summary>An order that was posted ended.</summary>
/// <param name="At">When it was known, UTC.</param>
/// <param name="Actor">Who found it.</param>
/// <param name="Order">Its name.</param>
/// <param name="Result">How it ended.</param>
/// <param name="Exit">The exit status of its script; null where it has none.</param>
/// <param name="Note">The last lines of its output, or what is known in their place.</param>
public sealed record OrderEnded(DateTimeOffset At, string Actor, OrderName Order, OrderResult Result, int? Exit, string Note)
    : RunEvent(At, Actor)
{
    /// <summary>How long it was running, by the machine's own account; null where that is not known.</summary>
    public TimeSpan? Lasted { get; init; }

    /// <summary>What it did within a step that patches; null for every other step.</summary>
    public PatchState? Patch { get; init; }
}

/// <summary>An order is running for longer than its limit.</summary>
public sealed record OrderOverdue(DateTimeOffset At, string Actor, OrderName Order, string Note) : RunEvent(At, Actor);

/// <summary>What a machine has was compared with what it had.</summary>
/// <param name="At">When, UTC.</param>
/// <param name="Actor">Who compared.</param>
/// <param name="Order">The order that asked for it.</param>
/// <param name="Differences">The differences that lead to something, of each result at most <see cref="MostOfEach"/>.</param>
/// <param name="Counts">How many differences there are by result, with those that lead to nothing.</param>
public sealed record Compared(
    DateTimeOffset At,
    string Actor,
    OrderName Order,
    ImmutableArray<Difference> Differences,
    ImmutableSortedDictionary<DifferenceResult, int> Counts
) : RunEvent(At, Actor)
{
    /// <summary>How many differences of each result are kept.</summary>
    public const int MostOfEach = 200;

    /// <summary>Makes one from all differences.</summary>
    public static Compared From(DateTimeOffset at, string actor, OrderName order, ImmutableArray<Difference> differences) =>
        new(
            at,
            actor,
            order,
            [
                .. differences
                    .Where(d => d.Result != DifferenceResult.Ignore)
                    .GroupBy(d => d.Result)
                    .OrderByDescending(g => g.Key)
                    .SelectMany(g => g.Take(MostOfEach)),
            ],
            differences.CountBy(d => d.Result).ToImmutableSortedDictionary()
        );

    /// <summary>How many differences have a result.</summary>
    public int CountOf(DifferenceResult result) => Counts.GetValueOrDefault(result);
}

/// <summary>The slot has come, and the limits have room.</summary>
public sealed record SlotOpened(DateTimeOffset At, string Actor, OrderName Order) : RunEvent(At, Actor);

/// <summary>The machine got another slot.</summary>
public sealed record SlotMoved(DateTimeOffset At, string Actor, Slot Slot, string Reason) : RunEvent(At, Actor);

/// <summary>What a person decides about a run.</summary>
public enum Decision
{
    /// <summary>Try again what it is parked at.</summary>
    Retry,

    /// <summary>Give the running order more time.</summary>
    Wait,

    /// <summary>Call it off; until the point of no return only.</summary>
    Cancel,

    /// <summary>Undo it by the method's rollback; after the point of no return.</summary>
    RollBack,

    /// <summary>Take it for failed.</summary>
    GiveUp,

    /// <summary>Go on in spite of the differences at which it is parked; each becomes a follow-up.</summary>
    Accept,
}

/// <summary>A person decided.</summary>
public sealed record Decided(DateTimeOffset At, string Actor, Decision Decision, string Reason) : RunEvent(At, Actor)
{
    /// <summary>Before when a rollback does not begin, UTC: the machine's next window. Null for at once.</summary>
    public DateTimeOffset? NotBefore { get; init; }
}

/// <summary>A person added a follow-up.</summary>
/// <param name="At">When, UTC.</param>
/// <param name="Actor">Who.</param>
/// <param name="FollowUp">Its name within the run.</param>
/// <param name="Title">What is left to do, or what is wrong.</param>
/// <param name="Fix">How it is done; empty where that is not known.</param>
/// <param name="Owner">Who is to do it; null for nobody yet.</param>
/// <param name="Due">The last day on which it is in time; null for none.</param>
public sealed record FollowUpAdded(DateTimeOffset At, string Actor, string FollowUp, string Title, string Fix, string? Owner, DateOnly? Due)
    : RunEvent(At, Actor);

/// <summary>It was said who is to do a follow-up, and by when.</summary>
/// <param name="At">When, UTC.</param>
/// <param name="Actor">Who said so.</param>
/// <param name="FollowUp">The follow-up's name.</param>
/// <param name="Owner">Who is to do it; null for nobody.</param>
/// <param name="Due">The last day on which it is in time; null for none.</param>
public sealed record FollowUpAssigned(DateTimeOffset At, string Actor, string FollowUp, string? Owner, DateOnly? Due) : RunEvent(At, Actor);

/// <summary>A follow-up was closed.</summary>
public sealed record FollowUpClosed(DateTimeOffset At, string Actor, string FollowUp, string Reason) : RunEvent(At, Actor);

/// <summary>The script of a follow-up was sent to its machine.</summary>
/// <param name="At">When, UTC.</param>
/// <param name="Actor">Who sent it.</param>
/// <param name="FollowUp">The follow-up's name.</param>
/// <param name="Fix">The fix as which it runs, such as f12.</param>
/// <param name="NotBefore">Before when it does not begin, UTC: the machine's next window; null where it begins at once.</param>
public sealed record FollowUpScriptBegun(DateTimeOffset At, string Actor, string FollowUp, string Fix, DateTimeOffset? NotBefore)
    : RunEvent(At, Actor);

/// <summary>The script of a follow-up has ended, and its check was asked again.</summary>
/// <param name="At">When, UTC.</param>
/// <param name="Actor">Who asked.</param>
/// <param name="FollowUp">The follow-up's name.</param>
/// <param name="Fix">The fix as which it ran, such as f12.</param>
/// <param name="IsMet">Whether the check is met now, which closes the follow-up.</param>
/// <param name="Said">How it went, in words.</param>
public sealed record FollowUpScriptEnded(DateTimeOffset At, string Actor, string FollowUp, string Fix, bool IsMet, string Said)
    : RunEvent(At, Actor);

/// <summary>The rollback is kept for longer.</summary>
/// <param name="At">When, UTC.</param>
/// <param name="Actor">Who asked for it.</param>
/// <param name="Until">Until when it is kept, UTC.</param>
/// <param name="Reason">Why.</param>
public sealed record RollbackExtended(DateTimeOffset At, string Actor, DateTimeOffset Until, string Reason) : RunEvent(At, Actor);

/// <summary>It was said what kind of reason a run was rolled back for.</summary>
/// <param name="Category">The kind, in a word of the administrators'.</param>
public sealed record RollbackCategorised(DateTimeOffset At, string Actor, string Category) : RunEvent(At, Actor);

/// <summary>The rollback period is over, and the rollback was given up.</summary>
public sealed record Settled(DateTimeOffset At, string Actor, OrderName Order) : RunEvent(At, Actor);

internal sealed class OrderNameConverter : JsonConverter<OrderName>
{
    public override OrderName Read(ref Utf8JsonReader reader, Type typeToConvert, JsonSerializerOptions options) =>
        OrderName.Parse(reader.GetString()!);

    public override void Write(Utf8JsonWriter writer, OrderName value, JsonSerializerOptions options) =>
        writer.WriteStringValue(value.ToString());
}
