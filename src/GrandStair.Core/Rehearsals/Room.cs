namespace GrandStair.Core.Rehearsals;

/// <summary>Room within the limits, as the engine keeps it: in the plan, at a site, of a crew, in a cluster and over an uplink.</summary>
internal sealed class Room
{
    private const int Plan = 0;
    private readonly Prepared _case;
    private readonly int[] _most;
    private readonly int[] _taken;
    private readonly List<int>?[] _lowered;
    private readonly Queue<int>?[] _waiting;
    private readonly bool[] _has;
    private readonly bool[] _hasCluster;
    private readonly bool[] _hasUplink;
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
        _hasCluster = new bool[count];
        _hasUplink = new bool[count];
        _crew = new int[count];
    }

    public Queue<int> Waiting(int limit) => _waiting[limit] ??= new();

    /// <summary>How many more may have room; while another plan has machines there, the lower of both numbers counts.</summary>
    public int Free(int limit) =>
        (_lowered[limit] is { Count: > 0 } lowered ? Math.Min(_most[limit], lowered.Min()) : _most[limit]) - _taken[limit];

    /// <summary>Takes all the room that a run needs, or none of it.</summary>
    /// <param name="m">The machine.</param>
    /// <param name="crewNamed">The crew that is booked for its slot; null without one.</param>
    /// <returns>The limit that is full; below 0 where it has its room now.</returns>
    public int Take(int m, string? crewNamed)
    {
        var (site, cluster) = (1 + _case.Sites[m], _case.ClusterOf(m));
        var crew = _case.CrewLimit(crewNamed);
        if (!_has[m])
        {
            if (Free(Plan) <= 0)
                return Plan;
            if (Free(site) <= 0)
                return site;
            if (crew >= 0 && Free(crew) <= 0)
                return crew;
        }

        if (cluster >= 0 && !_hasCluster[m])
        {
            if (Free(cluster) <= 0)
                return cluster;
            _hasCluster[m] = true;
            _taken[cluster]++;
        }

        if (_has[m])
            return -1;
        _has[m] = true;
        _taken[Plan]++;
        _taken[site]++;
        _crew[m] = crew;
        if (crew >= 0)
            _taken[crew]++;
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

    /// <summary>Takes the uplink of a machine's site for one step of its staging.</summary>
    public int TakeUplink(int m)
    {
        var uplink = _case.UplinkOf(m);
        if (uplink < 0 || _hasUplink[m])
            return -1;
        if (Free(uplink) <= 0)
            return uplink;
        _hasUplink[m] = true;
        _taken[uplink]++;
        return -1;
    }

    /// <summary>Gives back what a run needs no more.</summary>
    /// <returns>The limits in which there is room now.</returns>
    public IReadOnlyList<int> Release(int m, RunTree.Node run)
    {
        _released.Clear();
        if (run.NeedsRoom)
            return _released;
        if (_hasUplink[m])
            Give(_case.UplinkOf(m));
        _hasUplink[m] = false;
        if (_has[m])
        {
            Give(Plan);
            Give(1 + _case.Sites[m]);
            if (_crew[m] >= 0)
                Give(_crew[m]);
            _has[m] = false;
        }

        if (_hasCluster[m] && !run.HoldsCluster)
        {
            Give(_case.ClusterOf(m));
            _hasCluster[m] = false;
        }

        return _released;
    }

    private void Give(int limit)
    {
        _taken[limit]--;
        if (_waiting[limit]?.Count > 0)
            _released.Add(limit);
    }
}
