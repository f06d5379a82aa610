namespace GrandStair.Core.Scheduling;

/// <summary>When an uplink is busy with staging, in minutes of its hours since the case's begin. It stages one machine at a time.</summary>
internal sealed class UplinkBookings
{
    /// <summary>Sums of the same minutes in another order differ by less than this.</summary>
    public const double Rounding = 1e-6;

    private readonly List<(double From, double To)> _busy;

    public UplinkBookings() => _busy = [];

    private UplinkBookings(IEnumerable<(double From, double To)> busy) => _busy = [.. busy];

    public UplinkBookings Copy() => new(_busy);

    /// <summary>The first moment from <paramref name="from"/> on from which it is free for so many minutes.</summary>
    public double FirstFree(double minutes, double from)
    {
        foreach (var (begin, end) in _busy)
        {
            if (end <= from + Rounding)
                continue;
            if (begin >= from + minutes - Rounding)
                break;
            from = end;
        }

        return from;
    }

    /// <summary>
    /// The last moment up to <paramref name="to"/> from which it is free for so many minutes; below 0 where there is none.
    /// </summary>
    public double LastFree(double minutes, double to)
    {
        for (var i = _busy.Count - 1; i >= 0; i--)
        {
            var (begin, end) = _busy[i];
            if (begin >= to + minutes - Rounding)
                continue;
            if (end <= to + Rounding)
                break;
            to = begin - minutes;
        }

        return to < -Rounding ? -1 : Math.Max(0, to);
    }

    /// <summary>Books minutes that are free.</summary>
    public void Take(double from, double minutes)
    {
        if (minutes <= 0)
            return;
        var to = from + minutes;
        var at = _busy.FindIndex(b => b.To >= from - Rounding);
        if (at < 0)
            at = _busy.Count;
        // What it touches becomes one with it.
        while (at < _busy.Count && _busy[at].From <= to + Rounding)
        {
            (from, to) = (Math.Min(from, _busy[at].From), Math.Max(to, _busy[at].To));
            _busy.RemoveAt(at);
        }

        _busy.Insert(at, (from, to));
    }
}
