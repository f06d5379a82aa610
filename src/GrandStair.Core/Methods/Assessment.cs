using System.Collections.Immutable;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Gates;
using GrandStair.Core.Readings;
using GrandStair.Core.Routes;

namespace GrandStair.Core.Methods;

/// <summary>Whether a machine can go to a target now, by which route and method, and what is in the way.</summary>
/// <param name="Route">The route, or why there is none.</param>
/// <param name="Choice">The method of the first hop; null without a hop to do.</param>
/// <param name="State">Whether it may go: the gate's state; shut without a route or a method, undecided where the method cannot be told.</param>
/// <param name="Why">What is in the way, in a sentence; null where the gate is open.</param>
public sealed record Assessment(Route Route, MethodChoice? Choice, GateState State, string? Why)
{
    /// <summary>The gate of the first hop by the chosen method; null where there is neither.</summary>
    public Gate? Gate => Choice?.Gate;

    /// <summary>Whether nobody can mend what is in the way.</summary>
    public bool CannotBeMended => Gate?.CannotBeMended ?? State == GateState.Shut;

    /// <summary>Assesses a machine.</summary>
    public static Assessment Of(Product product, Release target, IEnumerable<string> methods, Carries carries, Machine machine, Moment moment, DateTimeOffset now)
    {
        var route = RouteFinder.Find(product, machine, target);
        if (!route.Exists) return new(route, null, GateState.Shut, $"no route: {route.Why}");
        if (route.Arrived) return new(route, null, GateState.Open, null);
        var choice = MethodChoice.Choose(product, route.Hops[0], methods, carries, machine, moment, now);
        if (choice.Gate is null) return new(route, choice, choice.Untold ? GateState.Undecided : GateState.Shut, choice.Why);

        ImmutableArray<string> inTheWay = [.. choice.Gate.InTheWay.Select(c => c.State == CheckState.Untold ? $"cannot tell: {c.Check.Title}" : c.Check.Title)];
        return new(route, choice, choice.Gate.State, inTheWay.IsEmpty ? null : string.Join("; ", inTheWay));
    }
}
