using System.Collections.Immutable;
using CsCheck;
using GrandStair.Core.Readings;

namespace GrandStair.Core.Tests.Conditions;

/// <summary>Conditions and machines drawn by chance, over a few keys of every kind.</summary>
internal static class Drawn
{
    public static readonly KeyRegistry Keys = Fleets.Keys.With([
        new("support.until", ValueKind.Date, ""),
        new("uptime", ValueKind.Duration, ""),
    ]);

    private static readonly Dictionary<string, string[]> Values = new()
    {
        ["os.edition"] = ["Workplace", "counter", "Bridge deck", "6"],
        ["firmware.tpm.on"] = ["yes", "no"],
        ["patches.pending"] = ["0", "3", "-2.5", "14"],
        ["disk.system.free"] = ["0 B", "31 GiB", "64 GiB", "64 GB", "512 MiB"],
        ["uptime"] = ["5 min", "2 h", "3 d"],
        ["network.rate"] = ["12 Mbit/s", "200 Mbit/s"],
        ["os.version"] = ["6", "6.9", "6.10", "7.0", "7.0.1", "10"],
        ["support.until"] = ["2027-01-10", "2027-01-11", "2027-03-31"],
        ["backup.last"] = ["2027-01-11T11:00:00Z", "2027-01-08T12:00:00Z", "2026-12-24T00:00:00Z"],
        ["tag"] = ["pilot", "volunteer", "till"],
        ["packages"] = ["a, b", "b", "c, held", ""],
        ["site"] = ["Westhaven", "Eastness"],
        ["name"] = ["till", "desk-1", "desk-12"],
    };

    private static readonly Dictionary<string, string[]> Cells = new()
    {
        ["name"] = ["Ledger", "Ledger Pro", "Chart Table"],
        ["version"] = ["8.2", "9", "10.1"],
        ["publisher"] = ["Quay Works", "Harbour Soft"],
        ["fault"] = ["yes", "no"],
        ["kind"] = ["printer", "radio"],
    };

    private static readonly string[] Ordered =
    [
        "patches.pending",
        "disk.system.free",
        "uptime",
        "network.rate",
        "os.version",
        "support.until",
        "backup.last",
        "version",
    ];
    private static readonly string[] Times = ["support.until", "backup.last"];
    private static readonly string[] Texts = ["os.edition", "site", "name", "os.version", "tag", "publisher", "version", "kind"];
    private static readonly string[] OfMachines =
    [
        "os.edition",
        "firmware.tpm.on",
        "patches.pending",
        "disk.system.free",
        "uptime",
        "network.rate",
        "os.version",
        "support.until",
        "backup.last",
        "tag",
        "site",
        "name",
    ];

    private static readonly Gen<string> Ago = Gen.Select(
        Fleets.Among("1 h", "3 d", "2 w", "0 s", "90 d"),
        Fleets.Among("ago", "ahead"),
        (length, way) => $"{length} {way}"
    );

    /// <summary>A condition's text.</summary>
    public static readonly Gen<string> Condition = Deep(3, MachineLeaf());

    /// <summary>
    /// A fleet of machines with something absent, unreadable, stale and missing in it; now and then so many that they are looked at in
    /// eights and thirty-twos.
    /// </summary>
    public static readonly Gen<Machine[]> Fleet = Gen.Select(
        Gen.Int[0, 1_000_000],
        Gen.Frequency((6, Gen.Int[1, 12]), (1, Gen.Int[33, 70])),
        (seed, count) => Enumerable.Range(1, count).Select(i => Machine(i, new Random(seed + (i * 7919)))).ToArray()
    );

    private static Gen<string> Deep(int depth, Gen<string> leaf) =>
        depth == 0
            ? leaf
            : Gen.Frequency(
                (3, leaf),
                (
                    2,
                    Gen.Select(Deep(depth - 1, leaf), Deep(depth - 1, leaf), Fleets.Among("and", "or"), (a, b, word) =>
                        $"({a}) {word} ({b})"
                    )
                ),
                (
                    1,
                    Gen.Select(
                        Deep(depth - 1, leaf),
                        Deep(depth - 1, leaf),
                        Deep(depth - 1, leaf),
                        Fleets.Among("and", "or"),
                        (a, b, c, word) => $"{a} {word} {b} {word} {c}"
                    )
                ),
                (1, Deep(depth - 1, leaf).Select(a => $"not ({a})"))
            );

    private static Gen<string> MachineLeaf() =>
        Gen.Frequency(
            (5, Fleets.Among(OfMachines).SelectMany(Leaf)),
            (
                2,
                Gen.Select(
                    Fleets.Among(OfMachines),
                    Fleets.Among("is known", "is absent", "older than 2 h", "older than 3 d"),
                    (key, asks) => $"{key} {asks}"
                )
            ),
            (1, Deep(1, Fleets.Among("name", "version", "publisher").SelectMany(Leaf)).Select(row => $"apps has ({row})")),
            (1, Deep(1, Fleets.Among("kind", "fault").SelectMany(Leaf)).Select(row => $"devices has ({row})")),
            (1, Fleets.Among("apps is known", "devices is absent", "apps older than 3 d"))
        );

    private static Gen<string> Leaf(string key)
    {
        var literal = Fleets.Among(Values.TryGetValue(key, out var known) ? known : Cells[key]).Select(v => $"\"{v}\"");
        if (Times.Contains(key))
            literal = Gen.OneOf(literal, Ago);
        var equal = Gen.Select(Fleets.Among("=", "!="), literal, (sign, value) => $"{key} {sign} {value}");
        var among = Gen.Select(Fleets.Among("in", "not in"), literal, literal, (sign, a, b) => $"{key} {sign} ({a}, {b})");
        if (Texts.Contains(key) && !Ordered.Contains(key))
            return Gen.OneOf(equal, among, Like(key));
        if (!Ordered.Contains(key))
            return Gen.OneOf(equal, among);
        var order = Gen.Select(Fleets.Among("<", "<=", ">", ">="), literal, (sign, value) => $"{key} {sign} {value}");
        var between = Gen.Select(Fleets.Among("between", "not between"), literal, literal, (word, a, b) => $"{key} {word} {a} and {b}");
        return Texts.Contains(key) ? Gen.OneOf(equal, among, order, between, Like(key)) : Gen.OneOf(equal, among, order, between);
    }

    private static Gen<string> Like(string key) =>
        Gen.Select(
            Fleets.Among("like", "not like"),
            Fleets.Among("*e*", "d?sk-*", "W*", "*1", "6.?", "*", "ledger*", "?"),
            (word, pattern) => $"{key} {word} \"{pattern}\""
        );

    private static Machine Machine(int number, Random chance)
    {
        string Pick(string[] from) => from[chance.Next(from.Length)];
        var readings = ImmutableArray.CreateBuilder<Reading>();
        foreach (var key in OfMachines.Where(k => Fleets.Keys.Find(k) is null || k is not ("tag" or "site" or "name")))
            if (Draw(chance, key, () => Keys.Find(key)!.Parse(Pick(Values[key]), out _)!) is { } reading)
                readings.Add(reading);
        if (chance.Next(4) == 0)
            readings.Add(Fleets.Read(KeyRegistry.PartlyUpgraded, Pick(["7", "10", "-", "?"]), TimeSpan.FromHours(1)));
        if (Draw(chance, "apps", () => Table(chance, "name", "version", "publisher")) is { } apps)
            readings.Add(apps);
        if (Draw(chance, "devices", () => Table(chance, "kind", "fault")) is { } devices)
            readings.Add(devices);
        return new()
        {
            Id = new(number),
            Name = $"{Pick(Values["name"])}-{number}",
            Site = Pick(Values["site"]),
            Owner = number % 3 == 0 ? "" : $"owner-{number}",
            Tags = [.. Values["tag"].Where(_ => chance.Next(2) == 0)],
            Connection = new("simulated", "", 22, "root", null),
            Readings = readings.ToImmutable(),
        };
    }

    private static Reading? Draw(Random chance, string key, Func<ReadingValue> value)
    {
        var seen = Fleets.Now - TimeSpan.FromMinutes(chance.Next(10_000));
        return chance.Next(10) switch
        {
            0 => null,
            1 => Reading.Absent(key, seen, Fleets.Now, "test"),
            2 => Reading.Unreadable(key, "no answer", seen, Fleets.Now, "test"),
            _ => Reading.Of(key, value(), seen, Fleets.Now, "test"),
        };
    }

    private static ReadingValue Table(Random chance, params string[] columns)
    {
        var rows = Enumerable
            .Range(0, chance.Next(4))
            .Select(_ => new TableRow(
                columns
                    .Where(_ => chance.Next(6) > 0)
                    .ToImmutableSortedDictionary(c => c, c => chance.Next(8) == 0 ? null : Cells[c][chance.Next(Cells[c].Length)])
            ));
        return ReadingValue.Of([.. rows]);
    }
}
