
namespace GrandStair.Core.Rehearsals;

/// <summary>Room within the limits, as the engine keeps it: in the plan, at a site, of a crew, in a unit and over a line.</summary>
internal sealed class Room
{
    private const int Plan = 0;
    private readonly Prepared _case;
    private readonly int[] _most;
    private readonly int[] _taken;
    private readonly List<int>?[] _lowered;
    private readonly Queue<int>?[] _waiting;
    private readonly bool[] _has;
    private readonly bool[] _hasUnit;
    private readonly bool[] _hasLine;
    private readonly int[] _crew;
    private readonly List<int> _released = [];

    public Room(Prepared prepared)
    {
        _case = prepared;
        _most = prepared.Most;
        _taken = new int[_most.Length];
        _lowered = new List<int>?[_most.Length];
        _waiting = new Queue<int>?[_most.Length];
        var count = prepared.Machines.Length;
        _has = new bool[count];
        _hasUnit = new bool[count];
        _hasLine = new bool[count];
        _crew = new int[count];
    }

    public Queue<int> Waiting(int limit) => _waiting[limit] ??= new();

    /// <summary>How many more may have room; while another plan has machines there, the lower of both numbers counts.</summary>
    public int Free(int limit) => (_lowered[limit] is { Count: > 0 } lowered ? Math.Min(_most[limit], lowered.Min()) : _most[limit]) - _taken[limit];

    /// <summary>Takes all the room that a run needs, or none of it.</summary>
    /// <param name="m">The machine.</param>
    /// <param name="crewNamed">The crew that is booked for its slot; null without one.</param>
    /// <returns>The limit that is full; below 0 where it has its room now.</returns>
    public int Take(int m, string? crewNamed)
    {
        var (site, unit) = (1 + _case.Sites[m], _case.UnitOf(m));
        var crew = _case.CrewLimit(crewNamed);
        if (!_has[m])
        {
            if (Free(Plan) <= 0) return Plan;
            if (Free(site) <= 0) return site;
            if (crew >= 0 && Free(crew) <= 0) return crew;
        }

        if (unit >= 0 && !_hasUnit[m])
        {
            if (Free(unit) <= 0) return unit;
            _hasUnit[m] = true;
            _taken[unit]++;
        }

        if (_has[m]) return -1;
        _has[m] = true;
        _taken[Plan]++;
        _taken[site]++;
        _crew[m] = crew;
        if (crew >= 0) _taken[crew]++;
        return -1;
    }

    /// <summary>Takes the room of another plan's machine, whose slot begins whatever room there is.</summary>
    public void TakeForOther(int other)
    {
        foreach (var (limit, most) in _case.OtherLimits[other])
        {
            _taken[limit]++;
            (_lowered[limit] ??= []).Add(most);
        }
    }

    /// <summary>Gives back the room of another plan's machine.</summary>
    /// <returns>The limits in which there is room now.</returns>
    public IReadOnlyList<int> ReleaseOther(int other)
    {
        _released.Clear();
        foreach (var (limit, most) in _case.OtherLimits[other])
        {
            _lowered[limit]!.Remove(most);
            Give(limit);
        }

        return _released;
    }

    /// <summary>Takes the line of a machine's site for one step of its staging.</summary>
    public int TakeLine(int m)
    {
        var line = _case.LineOf(m);
        if (line < 0 || _hasLine[m]) return -1;
        if (Free(line) <= 0) return line;
        _hasLine[m] = true;
        _taken[line]++;
        return -1;
    }

    /// <summary>Gives back what a run needs no more.</summary>
    /// <returns>The limits in which there is room now.</returns>
    public IReadOnlyList<int> Release(int m, RunTree.Node run)
    {
        _released.Clear();
        if (run.NeedsRoom) return _released;
        if (_hasLine[m]) Give(_case.LineOf(m));
        _hasLine[m] = false;
        if (_has[m])
        {
            Give(Plan);
            Give(1 + _case.Sites[m]);
            if (_crew[m] >= 0) Give(_crew[m]);
            _has[m] = false;
        }

        if (_hasUnit[m] && !run.HoldsUnit)
        {
            Give(_case.UnitOf(m));
            _hasUnit[m] = false;
        }

        return _released;
    }

    private void Give(int limit)
    {
        _taken[limit]--;
        if (_waiting[limit]?.Count > 0) _released.Add(limit);
    }
}
