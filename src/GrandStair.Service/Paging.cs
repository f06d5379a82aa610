using System.Globalization;
using GrandStair.Contracts;
using GrandStair.Core.Refusals;

namespace GrandStair.Service;

/// <summary>Cuts lists into parts.</summary>
internal static class Paging
{
    private const int MostItems = 1000;

    /// <summary>The part that begins at a cursor.</summary>
    /// <exception cref="RefusedException">The limit or the cursor is none of ours.</exception>
    public static Page<TOut> Page<TIn, TOut>(this IReadOnlyList<TIn> all, int? limit, string? cursor, Func<TIn, TOut> show)
    {
        if (limit is < 1 or > MostItems)
            throw RefusedException.Invalid("limit", $"limit is {limit}; expected 1 to {MostItems}.");
        var from = 0;
        if (cursor is not null && (!int.TryParse(cursor, NumberStyles.None, CultureInfo.InvariantCulture, out from) || from > all.Count))
            throw RefusedException.Invalid(
                "cursor",
                $"'{cursor}' is no cursor of this list; take the one that the last part gave as 'next'."
            );
        var size = limit ?? 100;
        var items = all.Skip(from).Take(size).Select(show).ToArray();
        var next = from + items.Length;
        return new(items, next < all.Count ? next.ToString(CultureInfo.InvariantCulture) : null, all.Count);
    }
}
