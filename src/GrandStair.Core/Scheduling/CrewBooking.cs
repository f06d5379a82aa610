using GrandStair.Core.Readings;

namespace GrandStair.Core.Scheduling;

/// <summary>Hours of a crew that something else than an upgrade takes.</summary>
/// <param name="Crew">The crew's name.</param>
/// <param name="From">When it begins, UTC.</param>
/// <param name="To">When it ends, UTC.</param>
/// <param name="Machine">The machine at which the crew is then.</param>
public sealed record CrewBooking(string Crew, DateTimeOffset From, DateTimeOffset To, MachineId Machine)
{
    /// <summary>The booking as slots are placed by: it takes a hand of its crew, and nothing else.</summary>
    public TakenSlot Taken() => new(new(Machine, "", To - From, TimeSpan.Zero), new(From, To, To) { Crew = Crew }) { IsOfCrewAlone = true };

    /// <summary>The first moment from which a crew has a hand free for a while, within its hours and its number of jobs a day.</summary>
    /// <param name="case">The plan that names the crew, what is taken already, and the first moment that will do.</param>
    /// <param name="crew">The crew's name.</param>
    /// <param name="lasts">How long it is needed.</param>
    /// <returns>That moment, UTC; null where there is none within the time for which slots are placed.</returns>
    /// <exception cref="ArgumentException">The plan has no such crew.</exception>
    public static DateTimeOffset? FreeFrom(ScheduleCase @case, string crew, TimeSpan lasts)
    {
        ArgumentNullException.ThrowIfNull(@case);
        var problem = new ScheduleProblem(@case);
        var free = new Board(problem).CrewFreeFrom(crew, (int)Math.Ceiling(lasts.TotalMinutes));
        return free < 0 ? null : problem.At(free);
    }
}
