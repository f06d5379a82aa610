using System.Collections.Concurrent;

namespace GrandStair.Engine.Plans;

/// <summary>Why plans that have started do not go on: what this process ran into when it last looked at each.</summary>
public sealed class PlanTroubles
{
    private readonly ConcurrentDictionary<string, string> _byPlan = new(StringComparer.Ordinal);

    /// <summary>What keeps a plan from going on, as a sentence; null where nothing does.</summary>
    public string? Of(string plan) => _byPlan.GetValueOrDefault(plan);

    /// <summary>Notes what keeps a plan from going on.</summary>
    /// <returns>Whether it is another trouble than before.</returns>
    internal bool Set(string plan, string why)
    {
        var isNew = _byPlan.GetValueOrDefault(plan) != why;
        _byPlan[plan] = why;
        return isNew;
    }

    internal void Clear(string plan) => _byPlan.TryRemove(plan, out _);
}
