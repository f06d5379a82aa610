using NodaTime;

namespace GrandStair.Core.Waves;

/// <summary>A calendar that cannot be evaluated. Only the plans that refer to it are affected.</summary>
/// <param name="calendar">The calendar's name.</param>
/// <param name="why">What is wrong with it.</param>
/// <param name="inner">The error behind it, for the log; null where there is none.</param>
public sealed class CalendarException(string calendar, string why, Exception? inner = null)
    : Exception(
        $"The calendar '{calendar}' cannot be used: {why}. Load a corrected one with 'gstair calendar load {calendar} FILE'; until "
            + $"then the plans that name it get no slots.",
        inner
    )
{
    /// <summary>The calendar's name.</summary>
    public string Calendar { get; } = calendar;
}

/// <summary>A calendar that was stored by an earlier release and cannot be read any more.</summary>
/// <param name="name">The calendar's name.</param>
/// <param name="why">What is wrong with it.</param>
public sealed class UnreadableCalendar(string name, string why) : ICalendar
{
    /// <inheritdoc />
    public IEnumerable<Stretch> Between(DateTimeOffset from, DateTimeOffset to, DateTimeZone zone) =>
        throw new CalendarException(name, why);
}
