using GrandStair.Contracts;
using GrandStair.Core.Refusals;

namespace GrandStair.Service.Requests;

/// <summary>Commands about several things at once.</summary>
internal static class Bulk
{
    private const int MostAtOnce = 1000;

    /// <summary>Does something with each of many; one that it cannot be done with does not keep the others.</summary>
    /// <param name="all">What it is done with; each once, however often it is named.</param>
    /// <param name="what">What they are, in words.</param>
    /// <param name="act">Does it with one.</param>
    /// <exception cref="RefusedException">It could be done with none of them, or none or too many are named.</exception>
    public static async Task<BulkResult> EachAsync<T>(IReadOnlyList<T> all, string what, Func<T, Task> act)
    {
        if (all.Count is 0 or > MostAtOnce)
            throw RefusedException.Invalid("count", $"{all.Count} {what} are named; expected 1 to {MostAtOnce}.");
        var refused = new List<RefusedException>();
        var different = all.Distinct().ToArray();
        foreach (var one in different)
        {
            try
            {
                await act(one);
            }
            catch (RefusedException error)
            {
                refused.Add(error);
            }
        }

        return refused.Count < different.Length
            ? new(different.Length - refused.Count, [.. refused.Select(r => r.Message)])
            : throw refused[0];
    }
}
