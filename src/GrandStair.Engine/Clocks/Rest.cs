using System.Diagnostics;

namespace GrandStair.Engine.Clocks;

/// <summary>Keeps long work that nobody waits for from taking a whole processor: it rests between its parts, on its own thread.</summary>
internal sealed class Rest
{
    /// <summary>How many times as long as a part took it rests.</summary>
    private const int Times = 3;
    private long _begun = Stopwatch.GetTimestamp();

    /// <summary>Rests after a part of the work.</summary>
    public void Take(CancellationToken stop)
    {
        stop.WaitHandle.WaitOne(Stopwatch.GetElapsedTime(_begun) * Times);
        _begun = Stopwatch.GetTimestamp();
    }
}
