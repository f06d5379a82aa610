using GrandStair.Core.Waves;
using MathNet.Numerics.Distributions;

namespace GrandStair.Core.Rehearsals;

/// <summary>
/// Draws by what they are for and not by their order: the same machine at the same attempt of the same draw has the same luck,
/// whatever else was changed. So what differs between two what-ifs comes from what was changed alone.
/// </summary>
internal readonly struct Chances(ulong seed, int draw)
{
    private readonly ulong _key = Draws.Mix(seed ^ Draws.Mix((ulong)draw + 0x632BE59BD9B4E019UL));

    /// <summary>A number above 0 and below 1.</summary>
    /// <param name="what">What is drawn, such as the number of a step.</param>
    /// <param name="whose">What it is drawn for.</param>
    /// <param name="attempt">Which of several.</param>
    public double Uniform(long what, long whose, long attempt) =>
        ((Draws.Mix(Draws.Mix(Draws.Mix(_key ^ (ulong)what) ^ (ulong)whose) ^ (ulong)attempt) >> 11) + 0.5) / (1UL << 53);

    /// <summary>A number of mean 0 and standard deviation 1, normally distributed.</summary>
    public double Gauss(long what, long whose, long attempt) => Normal.InvCDF(0, 1, Uniform(what, whose, attempt));
}
