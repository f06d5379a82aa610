namespace GrandStair.Core.Readings;

/// <summary>
/// The years in which anything here happens. Times outside of them are refused where they come in, so that no sum of times leaves what a
/// time can hold.
/// </summary>
public static class Era
{
    /// <summary>The first year.</summary>
    public const int First = 1970;

    /// <summary>The last year, still in it.</summary>
    public const int Last = 2199;

    /// <summary>Whether a moment is in these years, UTC.</summary>
    public static bool Holds(DateTimeOffset time) => time.UtcDateTime.Year is >= First and <= Last;

    /// <summary>Whether a day is in these years.</summary>
    public static bool Holds(DateOnly day) => day.Year is >= First and <= Last;
}
