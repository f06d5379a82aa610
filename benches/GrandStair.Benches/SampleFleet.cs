using System.Collections.Immutable;
using System.Globalization;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Conditions;
using GrandStair.Core.Readiness;
using GrandStair.Core.Readings;

namespace GrandStair.Benches;

/// <summary>A fleet of any size with forty readings of mixed kinds a machine, and forty checks that look at them.</summary>
internal static class SampleFleet
{
    public static readonly DateTimeOffset Now = new(2027, 1, 11, 12, 0, 0, TimeSpan.Zero);

    /// <summary>A key, how its value is drawn, the check that looks at it, and the same as SQL over a typed column.</summary>
    public sealed record Column(KeyDefinition Key, Func<Random, string> Draw, string Wants, string Sql);

    public static readonly ImmutableArray<Column> Columns = [.. Make()];

    public static readonly KeyRegistry Keys = KeyRegistry.BuiltIn.With(Columns.Select(c => c.Key));

    private static readonly string[] Editions = ["Workplace", "Counter", "Bridge"];

    public static IEnumerable<Machine> Machines(int count)
    {
        var chance = new Random(20270111);
        for (var i = 1; i <= count; i++)
            yield return Machine(i, chance);
    }

    /// <summary>What machines are judged for: one hop with forty checks, by the first of two methods that suits.</summary>
    public static Aim Aim()
    {
        ImmutableArray<Check> checks =
        [
            .. Columns.Select(
                (c, i) =>
                    new Check
                    {
                        Name = $"check-{i}",
                        Title = c.Wants,
                        Need = i % 5 == 4 ? Need.Should : Need.Must,
                        Wants = ConditionParser.Parse(c.Wants, Keys),
                        Fresh = i % 3 == 0 && i < 38 ? TimeSpan.FromDays(3) : null,
                        Fix = new(FixedBy.Person, "fix it", null),
                    }
            ),
        ];
        Method Method(string name, string? suits) =>
            new()
            {
                Name = name,
                Title = name,
                Hops = ["6-to-7"],
                Suits = suits is null ? null : ConditionParser.Parse(suits, Keys),
                Preserves = Preserves.Full,
                Steps =
                [
                    new(
                        "apply",
                        "Apply",
                        Phase.Apply,
                        StepKind.Script,
                        "apply",
                        TimeSpan.FromMinutes(40),
                        TimeSpan.FromHours(3),
                        PointOfNoReturn: true
                    ),
                ],
                Rollback = new("none", TimeSpan.Zero, []),
            };
        var product = new Product
        {
            Name = "Brae Desktop",
            Hash = "bench",
            Is = ConditionParser.Parse("os.product = \"Brae Desktop\"", Keys),
            VersionKey = "os.version",
            EditionKey = "os.edition",
            Releases = [Release("6"), Release("7")],
            Hops =
            [
                new(
                    "6-to-7",
                    ["6"],
                    "7",
                    new Dictionary<string, string>
                    {
                        ["Workplace"] = "Workplace",
                        ["Counter"] = "Workplace",
                        ["Bridge"] = "Bridge",
                    }.ToImmutableDictionary(),
                    checks
                ),
            ],
            Methods = [Method("channel", "os.edition = Bridge"), Method("image", null)],
        };
        return new(product, product.Release("7"), ["channel", "image"], Preserves.Full);
    }

    private static Release Release(string version) =>
        new(version, $"Brae Desktop {version}", ReleaseStatus.Available, ImmutableDictionary<string, DateOnly>.Empty);

    private static Machine Machine(int number, Random chance)
    {
        var readings = ImmutableArray.CreateBuilder<Reading>(Columns.Length + 3);
        void Add(string key, ReadingValue value)
        {
            var seen = Now.AddMinutes(-chance.Next(4400));
            // What could not be read is NULL on the other side; absent has no such counterpart there.
            readings.Add(
                chance.Next(25) == 0
                    ? Reading.Unreadable(key, "no answer", seen, seen, "inventory")
                    : Reading.Of(key, value, seen, seen, "inventory")
            );
        }

        readings.Add(Reading.Of("os.product", ReadingValue.Parse(ValueKind.Text, "Brae Desktop", out _)!, Now, Now, "inventory"));
        readings.Add(
            Reading.Of("os.version", ReadingValue.Parse(ValueKind.Version, $"6.4.{chance.Next(12)}", out _)!, Now, Now, "inventory")
        );
        readings.Add(
            Reading.Of(
                "os.edition",
                ReadingValue.Parse(ValueKind.Text, Editions[chance.Next(Editions.Length)], out _)!,
                Now,
                Now,
                "inventory"
            )
        );
        foreach (var column in Columns)
            Add(column.Key.Name, column.Key.Parse(column.Draw(chance), out _)!);
        return new()
        {
            Id = new(number),
            Name = $"desk-{number:000000}",
            Site = $"Site {number % 400}",
            Group = $"group {number % 7}",
            Connection = new("simulated", "", 22, "root", null),
            Readings = readings.ToImmutable(),
        };
    }

    private static IEnumerable<Column> Make()
    {
        for (var i = 0; i < 10; i++)
        {
            var most = 100 - i;
            yield return new(
                new($"sample.number-{i}", ValueKind.Number, ""),
                c => $"{c.Next(101)}",
                $"sample.number-{i} <= {most}",
                $"number_{i} <= {most}"
            );
        }

        for (var i = 0; i < 8; i++)
            yield return new(
                new($"sample.size-{i}", ValueKind.Size, ""),
                c => $"{c.Next(8, 500)} GiB",
                $"sample.size-{i} >= 9 GiB",
                $"size_{i} >= {9L << 30}"
            );
        for (var i = 0; i < 6; i++)
            yield return new(
                new($"sample.flag-{i}", ValueKind.Flag, ""),
                c => c.Next(60) == 0 ? "no" : "yes",
                $"sample.flag-{i} = yes",
                $"flag_{i} = 1"
            );
        for (var i = 0; i < 6; i++)
            yield return new(
                new($"sample.text-{i}", ValueKind.Text, ""),
                c => $"model {c.Next(60)}",
                $"not sample.text-{i} in (\"model 3\", \"model 59\")",
                $"NOT text_{i} COLLATE NOCASE IN ('model 3', 'model 59')"
            );
        for (var i = 0; i < 4; i++)
            yield return new(
                new($"sample.like-{i}", ValueKind.Text, ""),
                c => $"driver {c.Next(200)}-{c.Next(10)}",
                $"sample.like-{i} like \"driver *-?\" and not sample.like-{i} like \"driver 7-*\"",
                $"like_{i} LIKE 'driver %-_' AND NOT like_{i} LIKE 'driver 7-%'"
            );
        for (var i = 0; i < 4; i++)
            yield return new(
                new($"sample.version-{i}", ValueKind.Version, ""),
                c => $"{c.Next(1, 6)}.{c.Next(30)}",
                $"sample.version-{i} >= 1.1",
                $"version_{i} >= 1001"
            );
        for (var i = 0; i < 2; i++)
        {
            yield return new(
                new($"sample.instant-{i}", ValueKind.Instant, ""),
                c => Now.AddHours(-c.Next(200)).ToString("yyyy-MM-ddTHH:mm:ssZ", CultureInfo.InvariantCulture),
                $"sample.instant-{i} >= 8 d ago or sample.number-{i} > 50",
                $"instant_{i} >= {(Now.AddDays(-8)).ToUnixTimeSeconds()} OR number_{i} > 50"
            );
        }
    }
}
