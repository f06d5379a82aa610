using System.Globalization;
using GrandStair.Core.Readings;
using GrandStair.Core.Refusals;
using GrandStair.Core.Runs;

namespace GrandStair.Service.Requests;

/// <summary>Reads the fields of requests.</summary>
internal static class RequestFields
{
    private const int LongestText = 500;

    /// <summary>A moment of a request, UTC.</summary>
    /// <exception cref="RefusedException">It is in no year in which anything here happens.</exception>
    public static DateTimeOffset Moment(string what, DateTimeOffset time) =>
        Era.Holds(time)
            ? time.ToUniversalTime()
            : throw RefusedException.Invalid(what, $"{what} is {time:O}; expected a moment in the years {Era.First} to {Era.Last}.");

    /// <summary>An optional moment of a request, UTC; null where it was left out.</summary>
    /// <exception cref="RefusedException">It is in no year in which anything here happens.</exception>
    public static DateTimeOffset? Moment(string what, DateTimeOffset? time) => time is { } sent ? Moment(what, sent) : null;

    /// <summary>A reason as it is kept.</summary>
    /// <exception cref="RefusedException">There is none.</exception>
    public static string Reason(string? reason) =>
        string.IsNullOrWhiteSpace(reason)
            ? throw RefusedException.Invalid("no-reason", "Say why, with --reason. It is recorded in the audit log with your name.")
            : reason.Trim();

    /// <summary>What somebody wrote, as it is kept.</summary>
    /// <exception cref="RefusedException">It is empty or too long.</exception>
    public static string Text(string what, string? text) =>
        (text ?? "").Trim() is { Length: > 0 and <= LongestText } kept
            ? kept
            : throw RefusedException.Invalid(what, $"Say {what} in 1 to {LongestText} characters.");

    /// <summary>A day as the API takes it.</summary>
    /// <exception cref="RefusedException">It is none.</exception>
    public static DateOnly Day(string what, string text) =>
        DateOnly.TryParseExact(text, "yyyy-MM-dd", CultureInfo.InvariantCulture, DateTimeStyles.None, out var day)
            ? day
            : throw RefusedException.Invalid(what, $"{what} is '{text}'; expected a day such as 2027-03-31.");

    /// <summary>A word as the API takes it.</summary>
    /// <exception cref="RefusedException">It is none of them.</exception>
    public static T Word<T>(string what, string text)
        where T : struct, Enum
    {
        var words = Enum.GetValues<T>().ToDictionary(v => RunMachine.Name(v), v => v);
        return words.TryGetValue(text, out var value)
            ? value
            : throw RefusedException.Invalid("word", $"{what} is '{text}'; expected one of {string.Join(", ", words.Keys)}.");
    }

    /// <summary>A number as it is written, such as <c>t3</c>.</summary>
    public static long Number(char letter, string id) =>
        id.Length > 1 && id[0] == letter && long.TryParse(id.AsSpan(1), NumberStyles.None, null, out var number) ? number : 0;
}
