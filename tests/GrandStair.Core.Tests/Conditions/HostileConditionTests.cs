using GrandStair.Core.Conditions;
using GrandStair.Core.Readings;
using GrandStair.Testing;
using Xunit;

namespace GrandStair.Core.Tests.Conditions;

public sealed class HostileConditionTests
{
    private static readonly int Inputs = Seeds.Cases(200_000);
    private static readonly TimeSpan AtMost = TimeSpan.FromMinutes(4);

    private static readonly string[] Pieces =
    [
        "site",
        "os.version",
        "disk.system.free",
        "apps",
        "name",
        "tag",
        "backup.last",
        "power.mains",
        "older",
        "than",
        "is",
        "known",
        "absent",
        "has",
        "in",
        "not",
        "and",
        "or",
        "like",
        "between",
        "ago",
        "ahead",
        "=",
        "!=",
        "<",
        "<=",
        ">",
        ">=",
        "(",
        ")",
        ",",
        "\"Westhaven\"",
        "\"",
        "\\",
        "64",
        "GiB",
        "7",
        "d",
        "6.10",
        "yes",
        "999999999999999999999",
        "1e308",
        "-1",
        "0",
        "\u0000",
        "\u202e",
        "é",
        "😀",
        "'",
        ";--",
        "{",
        "*",
        "?",
        "%",
        "\t",
        "\n",
        "NaN",
        "Infinity",
        "99999999 d",
        "10000-01-01",
        "0001-01-01T00:00:00Z",
    ];

    [Fact]
    public void Hundreds_of_thousands_of_hostile_texts_are_read_or_refused_with_a_column_and_never_crash()
    {
        var fleet = new[]
        {
            Fleets.With(("os.version", "6.10"), ("disk.system.free", "41 GiB"), ("backup.last", "2027-01-08T12:00:00Z")),
            Fleets.Machine("bare", []) with
            {
                Id = new(2),
            },
        };
        var columns = FleetColumns.Of(fleet);
        var until = DateTime.UtcNow + AtMost;
        long read = 0,
            refused = 0;
        Parallel.For(0, Environment.ProcessorCount, worker =>
        {
            var chance = new Random(20270111 + worker);
            for (var i = worker; i < Inputs; i += Environment.ProcessorCount)
            {
                Assert.True(i % 4096 != worker || DateTime.UtcNow < until, "The million was not through in time.");
                if (Read(Draw(chance)) is not { } condition)
                {
                    Interlocked.Increment(ref refused);
                    continue;
                }

                Interlocked.Increment(ref read);
                var explained = fleet.Select(m => condition.Ask(m, new(Fleets.Now, TimeSpan.FromDays(1))).Value);
                Assert.Equal(explained, FleetQuestion.Ask(condition, columns, new(Fleets.Now, TimeSpan.FromDays(1))).Values);
                Assert.Equal(condition.Written, Read(condition.Written)?.Written);
            }
        });
        Assert.Equal(Inputs, read + refused);
        Assert.True(read > Inputs / 100, $"Only {read} were conditions; the pieces no longer fit the language.");
    }

    private static Condition? Read(string text)
    {
        try
        {
            return ConditionParser.Parse(text, Fleets.Keys);
        }
        catch (ConditionException error)
        {
            Assert.InRange(error.Column, 1, text.Length + 1);
            return null;
        }
    }

    private static string Draw(Random chance)
    {
        // Half begin as a sound condition, of which then a piece is changed; the others are pieces in any order.
        var parts =
            chance.Next(2) == 0
                ? new List<string>
                {
                    "site",
                    "=",
                    "\"Westhaven\"",
                    "and",
                    "not",
                    "(",
                    "disk.system.free",
                    "<",
                    "64",
                    "GiB",
                    "or",
                    "apps",
                    "has",
                    "(",
                    "name",
                    "like",
                    "\"L*\"",
                    ")",
                    ")",
                }
                : [.. Enumerable.Range(0, chance.Next(1, 14)).Select(_ => Pieces[chance.Next(Pieces.Length)])];
        for (var changes = chance.Next(3); changes > 0; changes--)
            parts[chance.Next(parts.Count)] = Pieces[chance.Next(Pieces.Length)];
        return string.Join(chance.Next(8) == 0 ? "" : " ", parts);
    }
}
