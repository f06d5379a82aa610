using System.Collections.Immutable;
using GrandStair.Core.Gates;
using GrandStair.Core.Runs;
using GrandStair.Core.Scheduling;

namespace GrandStair.Core.Rehearsals;

/// <summary>
/// The states of runs as <see cref="RunMachine"/> makes them, each made once. What a run comes to depends on its legs and on what has
/// happened to it, and on times only in that something was in time for its slot or not. So a run in a rehearsal is a place in the tree
/// of all that has happened to any; thousands of machines to whom the same happens share one state.
/// </summary>
internal sealed class RunTree
{
    private static readonly DateTimeOffset Time = DateTimeOffset.UnixEpoch;
    private static readonly Slot AnySlot = new(Time, Time, Time);
    private static readonly ImmutableArray<Noted> NotOpen = [new("rehearsed", "What was in the way", "rehearsed", "")];
    private readonly Dictionary<int, Node> _roots = [];

    /// <summary>A run that was just opened.</summary>
    /// <param name="kind">A number for its legs.</param>
    /// <param name="legs">The legs.</param>
    /// <param name="catchUp">How many missed slots are caught up without asking anybody; null for all.</param>
    public Node Open(int kind, ImmutableArray<LegSpec> legs, int? catchUp)
    {
        if (!_roots.TryGetValue(kind, out var root))
            _roots[kind] = root = new(
                RunMachine.Step(null, new RunOpened(Time, "", 0, 0, "", 1, "", "", legs, AnySlot, catchUp)).State,
                Time
            );
        return root;
    }

    /// <summary>A run that is running already.</summary>
    public static Node At(RunState run) =>
        new(
            run with
            {
                Slot = AnySlot,
                // A step that patches is measured and drawn as a whole.
                Patch = run.Patch is { } patch ? patch with { Part = PatchPart.Look } : null,
            },
            run.Outstanding?.NotBefore ?? Time
        );

    /// <summary>What happens to a run.</summary>
    /// <param name="Kind">What it is.</param>
    /// <param name="How">How it went: a gate's state, an order's result, or a decision, as a number.</param>
    /// <param name="Late">Whether it is too late for the point of no return of its slot.</param>
    public readonly record struct Happening(HappeningKind Kind, int How, bool Late);

    public enum HappeningKind
    {
        Gate,
        Ended,
        Overdue,
        SlotOpened,
        SlotMoved,
        Decided,
    }

    /// <summary>A state, with all that follows from it.</summary>
    public sealed class Node
    {
        private readonly Dictionary<Happening, Node> _next = [];

        public Node(RunState run, DateTimeOffset at)
        {
            Run = run;
            NeedsRoom = run.NeedsRoom;
            HoldsCluster = run.HoldsCluster;
            UsesUplink = run is { UsesUplink: true, Parked: null };
            Order = run.Outstanding;
            // A slot's own time is the machine's, and not known here.
            Delay = Order is null or { Kind: OrderKind.Slot } ? TimeSpan.Zero : Order.NotBefore - at;
            Possible = run.Parked is not null && Order?.Kind == OrderKind.Decide ? RunMachine.Possible(run) : [];
        }

        public RunState Run { get; }

        public bool NeedsRoom { get; }

        public bool HoldsCluster { get; }

        public bool UsesUplink { get; }

        public Order? Order { get; }

        /// <summary>How long after it was asked for the order may be seen to.</summary>
        public TimeSpan Delay { get; }

        /// <summary>The possible decisions; empty where none is needed.</summary>
        public ImmutableArray<Decision> Possible { get; }

        /// <summary>The state after something has happened.</summary>
        public Node After(Happening what)
        {
            if (!_next.TryGetValue(what, out var next))
            {
                var at = what.Late ? Time + TimeSpan.FromDays(1) : Time;
                _next[what] = next = new(RunMachine.Step(Run, Event(what, at)).State, at);
            }

            return next;
        }

        private RunEvent Event(Happening what, DateTimeOffset at) =>
            what.Kind switch
            {
                HappeningKind.Gate => new GateJudged(
                    at,
                    "",
                    Order!.Name,
                    (GateState)what.How,
                    what.How == (int)GateState.Open ? [] : NotOpen,
                    []
                ),
                HappeningKind.Ended => new OrderEnded(at, "", Order!.Name, (OrderResult)what.How, null, ""),
                HappeningKind.Overdue => new OrderOverdue(at, "", Order!.Name, ""),
                HappeningKind.SlotOpened => new SlotOpened(at, "", Order!.Name),
                HappeningKind.SlotMoved => new SlotMoved(at, "", AnySlot, ""),
                _ => new Decided(at, "", (Decision)what.How, ""),
            };
    }
}
