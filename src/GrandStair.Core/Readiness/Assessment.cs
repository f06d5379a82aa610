using System.Collections.Immutable;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Conditions;
using GrandStair.Core.Gates;
using GrandStair.Core.Methods;
using GrandStair.Core.Readings;
using GrandStair.Core.Routes;

namespace GrandStair.Core.Readiness;

/// <summary>Whether a release that is phased in is offered to a machine.</summary>
public enum Offer
{
    /// <summary>It is not phased in: everybody can have it.</summary>
    ToAll,

    /// <summary>It is offered.</summary>
    Offered,

    /// <summary>It is not offered yet.</summary>
    NotYet,

    /// <summary>It is unknown.</summary>
    Unknown,
}

/// <summary>Whether a machine can go to a target now, by which route and methods, and what is in the way.</summary>
/// <param name="Route">The route, or why there is none.</param>
/// <param name="Legs">The method of every hop, as far as one could be looked for.</param>
/// <param name="State">Whether it may go: the worst of its gates; blocked without a route or a method, undecided where a method is
/// unknown.</param>
/// <param name="Why">What is in the way, in a sentence; null where every gate is open.</param>
/// <param name="Offer">Whether the target is offered to it.</param>
public sealed record Assessment(Route Route, ImmutableArray<MethodChoice> Legs, GateState State, string? Why, Offer Offer)
{
    /// <summary>The method of the first hop; null without a hop to do.</summary>
    public MethodChoice? Choice => Legs.FirstOrDefault();

    /// <summary>The gate of the first hop by the chosen method; null where there is neither.</summary>
    public Gate? Gate => Choice?.Gate;

    /// <summary>Whether the machine goes by upgrades alone, each with a method.</summary>
    public bool CanBePlanned => State == GateState.Open && !Legs.IsEmpty && Legs.All(l => l.Method is { Way: Way.Upgrade });

    /// <summary>What is done with it where it is not upgraded; null where it is.</summary>
    public Method? Instead => Legs.Select(l => l.Method).FirstOrDefault(m => m is { Way: not Way.Upgrade });

    /// <summary>Whether nobody can fix what is in the way.</summary>
    public bool CannotBeFixed =>
        State == GateState.Blocked
        && !IsWaitingForOffer
        && !Route.NeedsPatches
        && (Legs.IsEmpty || Instead is not null || Legs.Any(l => l.Gate is null ? !l.Unknown : l.Gate.CannotBeFixed));

    /// <summary>Whether all that keeps it is that the release is not offered to it yet, and no other method of the plan will do.</summary>
    public bool IsWaitingForOffer { get; init; }

    /// <summary>The results of all legs, a later leg's after an earlier one's.</summary>
    public IEnumerable<CheckResult> Checks => Legs.SelectMany(l => l.Gate?.Checks ?? []);

    /// <summary>When an answer may change by age alone; null where none will.</summary>
    public DateTimeOffset? Until => Legs.Min(l => l.Gate?.Until);

    /// <summary>Assesses a machine.</summary>
    public static Assessment Of(Aim aim, Machine machine, Moment moment, DateTimeOffset now, Decisions? decisions = null)
    {
        ArgumentNullException.ThrowIfNull(aim);
        var release = aim.ReleaseFor(machine);
        var offer = OfferOf(release, machine, now);
        var touching = aim.Product.IssuesTouching(machine, now);
        var route = aim.RouteOf(machine, touching);
        if (!route.Exists)
            return new(route, [], StateOf(route), WhyNot(route), offer);
        if (route.Arrived)
            return new(route, [], GateState.Open, null, offer);

        var cases = aim.Legs(route, machine, touching, now);
        ImmutableArray<MethodChoice> legs =
        [
            .. cases.Select(c =>
                MethodChoice.Choose(c.Leg, aim.Methods, aim.Preserves, c.Machine, moment, now, decisions ?? Decisions.None)
            ),
        ];
        var state = legs.Max(StateOf);
        var waiting =
            offer == Offer.NotYet
            && legs.Any(l => l.Method is null && !l.Unknown)
            && cases
                .Zip(legs)
                .All(l =>
                    l.Second.Method is not null
                    || Gate.Judge(l.First.Leg.Checks, l.First.Machine, moment, now, decisions?.Waivers, l.First.Leg.Brought).State
                        == GateState.Open
                );
        var why = state == GateState.Open ? null : string.Join("; ", legs.SelectMany(l => WhyNot(l, legs.Length > 1)));
        return new(route, legs, state, waiting ? $"eligible, not offered yet: {why}" : why, offer) { IsWaitingForOffer = waiting };
    }

    /// <summary>Whether a release is offered to a machine.</summary>
    internal static Offer OfferOf(Release release, IReadable machine, DateTimeOffset now) =>
        release.Status != ReleaseStatus.PhasedIn
            ? Offer.ToAll
            : OfferOf(release.OfferedTo?.Ask(machine, new EvaluationContext(now)).Value ?? Kleene.Unknown);

    /// <summary>What an answer to whether it is offered comes to.</summary>
    internal static Offer OfferOf(Kleene answer) =>
        answer switch
        {
            Kleene.Yes => Offer.Offered,
            Kleene.No => Offer.NotYet,
            _ => Offer.Unknown,
        };

    /// <summary>What a route that is none comes to.</summary>
    internal static GateState StateOf(Route route) => route.IsUnknown ? GateState.Undecided : GateState.Blocked;

    /// <summary>Why a route is none.</summary>
    internal static string WhyNot(Route route) => route.NeedsPatches || route.IsUnknown ? route.Why! : $"no upgrade path: {route.Why}";

    private static GateState StateOf(MethodChoice leg) =>
        leg.Method is { Way: not Way.Upgrade }
            ? GateState.Blocked
            : leg.Gate?.State ?? (leg.Unknown ? GateState.Undecided : GateState.Blocked);

    private static IEnumerable<string> WhyNot(MethodChoice leg, bool several)
    {
        var of = several ? $" ({leg.Hop.Name})" : "";
        if (leg.Method is null)
            return [leg.Why! + of];
        var inTheWay = (leg.Gate?.InTheWay ?? []).Select(c =>
            (c.State == CheckState.Unknown ? $"unknown: {c.Check.Title}" : c.Check.Title) + of
        );
        return leg.Method.Way == Way.Upgrade ? inTheWay : inTheWay.Prepend(leg.Method.Title + of);
    }
}
