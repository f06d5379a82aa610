using System.Globalization;

namespace GrandStair.Benches;

/// <summary>How a bench ends.</summary>
internal static class Result
{
    /// <summary>Prints the last line; whether the goal was met.</summary>
    public static bool Tell(string name, double ratio, double goal, bool lessIsBetter = false)
    {
        Console.WriteLine(string.Create(CultureInfo.InvariantCulture, $"{name} ratio={ratio:0.00} goal={goal:0.00}"));
        return lessIsBetter ? ratio <= goal : ratio >= goal;
    }
}
