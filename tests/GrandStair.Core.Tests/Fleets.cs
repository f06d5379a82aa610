using System.Collections.Immutable;
using CsCheck;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Conditions;
using GrandStair.Core.Readings;
using Check = GrandStair.Core.Catalogue.Check;

namespace GrandStair.Core.Tests;

/// <summary>Machines and a product for examples.</summary>
internal static class Fleets
{
    public static readonly DateTimeOffset Now = new(2027, 1, 11, 12, 0, 0, TimeSpan.Zero);

    public static readonly KeyRegistry Keys = KeyRegistry.BuiltIn.With([
        new("firmware.tpm", ValueKind.Version, ""),
        new("firmware.tpm.on", ValueKind.Flag, ""),
        new("patches.pending", ValueKind.Number, ""),
    ]);

    public static Machine Machine(string name, ImmutableArray<Reading> readings, string site = "Westhaven") =>
        new()
        {
            Id = new(1),
            Name = name,
            Site = site,
            Connection = new("simulated", "", 22, "root", null),
            Tags = ["pilot"],
            Readings = readings,
        };

    /// <summary>A machine with values of an age: <c>With("os.version", "6.4")</c>; <c>-</c> is absent, <c>?</c> unreadable.</summary>
    public static Machine With(TimeSpan age, params (string Key, string Text)[] values) =>
        Machine("desk-1", [.. values.Select(v => Read(v.Key, v.Text, age))]);

    public static Machine With(params (string Key, string Text)[] values) => With(TimeSpan.FromHours(1), values);

    public static Condition Parse(string text) => ConditionParser.Parse(text, Keys);

    public static Check Check(
        string name,
        string wants,
        Need need = Need.Must,
        FixedBy by = FixedBy.Person,
        TimeSpan? fresh = null,
        string? appliesTo = null,
        params Moment[] moments
    ) =>
        new()
        {
            Name = name,
            Title = name,
            Need = need,
            Wants = Parse(wants),
            AppliesTo = appliesTo is null ? null : Parse(appliesTo),
            Fresh = fresh,
            AskedAt = moments.Length > 0 ? [.. moments] : [Moment.Planning, Moment.Start],
            Fix = new(by, "fix it", null),
        };

    public static Method Method(string name, string? suits = null, Preserves preserves = Preserves.Full, params Check[] checks) =>
        new()
        {
            Name = name,
            Title = name,
            Hops = ["6-to-7", "7-to-8"],
            Suits = suits is null ? null : Parse(suits),
            Preserves = preserves,
            Checks = [.. checks],
            Steps = Steps(),
            Rollback = new(
                "keep it",
                TimeSpan.FromDays(10),
                [new("roll-back", "Go back", Phase.RollBack, StepKind.Script, "back", TimeSpan.FromMinutes(30), TimeSpan.FromHours(2))]
            ),
        };

    public static ImmutableArray<StepSpec> Steps() =>
        [
            new("fetch", "Fetch", Phase.Stage, StepKind.Script, "fetch", TimeSpan.FromMinutes(20), TimeSpan.FromHours(2), Attempts: 2),
            new("save", "Save", Phase.Protect, StepKind.Script, "save", TimeSpan.FromMinutes(5), TimeSpan.FromHours(1)),
            new(
                "apply",
                "Apply",
                Phase.Apply,
                StepKind.Script,
                "apply",
                TimeSpan.FromMinutes(40),
                TimeSpan.FromHours(3),
                Attempts: 2,
                PointOfNoReturn: true
            ),
            new("restart", "Restart", Phase.Apply, StepKind.Restart, null, TimeSpan.FromMinutes(5), TimeSpan.FromHours(1)),
            new("look", "Look", Phase.Verify, StepKind.Script, "look", TimeSpan.FromMinutes(5), TimeSpan.FromHours(1)),
        ];

    public static Product Product(ImmutableArray<Check> checks, params Method[] methods) =>
        new()
        {
            Name = "Brae Desktop",
            Hash = "0",
            Is = Parse("os.product = \"Brae Desktop\""),
            VersionKey = "os.version",
            EditionKey = "os.edition",
            Releases = [Release("6"), Release("7"), Release("8")],
            Hops =
            [
                new(
                    "6-to-7",
                    ["6"],
                    "7",
                    new Dictionary<string, string> { ["Workplace"] = "Workplace", ["Counter"] = "Workplace" }.ToImmutableDictionary(),
                    checks
                ),
                new("7-to-8", ["7"], "8", new Dictionary<string, string> { ["Workplace"] = "Workplace" }.ToImmutableDictionary(), []),
            ],
            Methods = [.. methods],
        };

    public static Reading Read(string key, string text, TimeSpan age)
    {
        var seen = Now - age;
        return text switch
        {
            "-" => Reading.Absent(key, seen, Now, "test"),
            "?" => Reading.Unreadable(key, "no answer", seen, Now, "test"),
            _ => Reading.Of(
                key,
                ReadingValue.Parse(Keys.Find(key)!.Kind, text, out var error) ?? throw new ArgumentException(error),
                seen,
                Now,
                "test"
            ),
        };
    }

    /// <summary>Draws one of several values.</summary>
    public static Gen<T> Among<T>(params T[] values) => Gen.Int[0, values.Length - 1].Select(i => values[i]);

    private static Release Release(string version) =>
        new(version, $"Brae Desktop {version}", ReleaseStatus.Available, ImmutableDictionary<string, DateOnly>.Empty);
}
