using Dapper;
using GrandStair.Storage.Databases;

namespace GrandStair.Storage.Fleet;

/// <summary>How many machines ran a release of a product on a day.</summary>
public sealed record DayTally(DateOnly Day, string Product, string Release, int Machines);

/// <summary>The fleet's daily tally, from which trends are drawn.</summary>
public sealed class TallyTable(Database database)
{
    /// <summary>Stores a day's tally; what was kept for that day and product before is replaced.</summary>
    public Task PutAsync(DateOnly day, string product, IReadOnlyDictionary<string, int> machines, CancellationToken stop) =>
        database.WriteAsync(
            async (c, t) =>
            {
                var on = Text(day);
                await c.ExecuteAsync("DELETE FROM tallies WHERE day = @on AND product = @product", new { on, product }, t);
                foreach (var (release, count) in machines)
                    await c.ExecuteAsync(
                        "INSERT INTO tallies (day, product, release, machines) VALUES (@on, @product, @release, @count)",
                        new
                        {
                            on,
                            product,
                            release,
                            count,
                        },
                        t
                    );
                return 0;
            },
            stop
        );

    /// <summary>The tallies of a product from a day on, oldest first.</summary>
    public Task<IReadOnlyList<DayTally>> SinceAsync(string product, DateOnly day, CancellationToken stop) =>
        database.ReadAsync<IReadOnlyList<DayTally>>(
            async c =>
                [
                    .. (
                        await c.QueryAsync<Row>(
                            "SELECT day, release, machines FROM tallies WHERE product = @product AND day >= @from ORDER BY day, release",
                            new { product, from = Text(day) }
                        )
                    ).Select(r => new DayTally(
                        DateOnly.ParseExact(r.Day, "yyyy-MM-dd", System.Globalization.CultureInfo.InvariantCulture),
                        product,
                        r.Release,
                        (int)r.Machines
                    )),
                ],
            stop
        );

    private static string Text(DateOnly day) => day.ToString("yyyy-MM-dd", System.Globalization.CultureInfo.InvariantCulture);

    private sealed record Row
    {
        public string Day { get; init; } = "";

        public string Release { get; init; } = "";

        public long Machines { get; init; }
    }
}
