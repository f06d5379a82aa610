namespace GrandStair.Core.Waves;

/// <summary>Seeded pseudo-random numbers: SplitMix64 (Steele, Lea, Flood 2014).</summary>
internal sealed class Draws(ulong seed)
{
    private const ulong Step = 0x9E3779B97F4A7C15UL;
    private ulong _state = seed;

    /// <summary>A whole number from 0 and below <paramref name="below"/>.</summary>
    public int Next(int below) => (int)(NextDouble() * below);

    /// <summary>A number from 0 and below 1.</summary>
    public double NextDouble()
    {
        var drawn = Mix(_state);
        unchecked
        {
            _state += Step;
        }

        return (drawn >> 11) / (double)(1UL << 53);
    }

    /// <summary>What a state draws: all of its bits, mixed.</summary>
    public static ulong Mix(ulong state)
    {
        unchecked
        {
            var z = state + Step;
            z = (z ^ (z >> 30)) * 0xBF58476D1CE4E5B9UL;
            z = (z ^ (z >> 27)) * 0x94D049BB133111EBUL;
            return z ^ (z >> 31);
        }
    }
}
