using GrandStair.Core.Conditions;
using GrandStair.Core.Readings;
using GrandStair.Core.Waves;

namespace GrandStair.Benches;

/// <summary>A plan of one wave over everything, without windows; benches put in what they measure.</summary>
internal static class SamplePlan
{
    public static Plan Bare { get; } =
        new()
        {
            Name = "bench",
            Product = "Brae Desktop",
            Release = "7",
            Scope = ConditionParser.Parse("name is known", KeyRegistry.BuiltIn),
            Methods = ["image"],
            Waves = [new("All", null, null)],
            Windows = [],
            Limits = new(1, 1),
            Advance = new(0.9, 5, TimeSpan.FromDays(3)),
        };
}
