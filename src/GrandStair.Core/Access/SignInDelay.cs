namespace GrandStair.Core.Access;

/// <summary>How long a name has to wait after passwords that were wrong, whether or not there is an account of that name.</summary>
public static class SignInDelay
{
    /// <summary>So many wrong passwords in a row are forgiven at once.</summary>
    public const int Forgiven = 3;

    /// <summary>The longest wait.</summary>
    public static readonly TimeSpan Longest = TimeSpan.FromMinutes(15);

    /// <summary>The wait after a number of wrong passwords in a row: none up to three, then two seconds, doubled each time.</summary>
    /// <param name="failures">How many, from 0.</param>
    public static TimeSpan After(int failures)
    {
        if (failures <= Forgiven)
            return TimeSpan.Zero;
        var seconds = Math.Pow(2, Math.Min(failures - Forgiven, 20));
        return seconds < Longest.TotalSeconds ? TimeSpan.FromSeconds(seconds) : Longest;
    }
}
