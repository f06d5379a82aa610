using System.Collections.Immutable;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Gates;
using GrandStair.Core.Runs;

namespace GrandStair.Core.Rehearsals;

/// <summary>A step of a method, as it is counted.</summary>
/// <param name="Hop">The hop.</param>
/// <param name="Method">The method.</param>
/// <param name="Step">The step.</param>
public readonly record struct StepKey(string Hop, string Method, string Step);

/// <summary>An order for a step, as it went.</summary>
/// <param name="Step">The step.</param>
/// <param name="Model">The machine's model; empty where it is not known.</param>
/// <param name="Site">The machine's site.</param>
/// <param name="Again">Whether it had been tried before.</param>
/// <param name="Result">How it ended.</param>
/// <param name="Lasted">How long it was running.</param>
public sealed record MeasuredStep(StepKey Step, string Model, string Site, bool Again, OrderResult Result, TimeSpan Lasted);

/// <summary>A gate, as it was judged.</summary>
/// <param name="Moment">When it was asked.</param>
/// <param name="Again">Whether it had been judged before at that moment.</param>
/// <param name="State">What came of it.</param>
public sealed record MeasuredGate(Moment Moment, bool Again, GateState State);

/// <summary>The decision about a parked run.</summary>
/// <param name="Decision">The decision.</param>
/// <param name="After">How long it was parked by then.</param>
public sealed record MeasuredDecision(Decision Decision, TimeSpan After);

/// <summary>What runs have shown of how long things take and how they go.</summary>
/// <param name="Steps">The orders for steps.</param>
/// <param name="Gates">The gates.</param>
/// <param name="Decisions">The decisions about parked runs.</param>
public sealed record Measurements(
    ImmutableArray<MeasuredStep> Steps,
    ImmutableArray<MeasuredGate> Gates,
    ImmutableArray<MeasuredDecision> Decisions
)
{
    /// <summary>Nothing was measured yet.</summary>
    public static Measurements None { get; } = new([], [], []);

    /// <summary>How long after their wave began machines were made ready that were not.</summary>
    public ImmutableArray<TimeSpan> Fixings { get; init; } = [];

    /// <summary>What the log of one run shows.</summary>
    /// <param name="events">Its events from the first on.</param>
    /// <param name="model">The machine's model; empty where it is not known.</param>
    /// <param name="site">The machine's site.</param>
    public static Measurements Of(IEnumerable<RunEvent> events, string model, string site)
    {
        ArgumentNullException.ThrowIfNull(events);
        var steps = ImmutableArray.CreateBuilder<MeasuredStep>();
        var gates = ImmutableArray.CreateBuilder<MeasuredGate>();
        var decisions = ImmutableArray.CreateBuilder<MeasuredDecision>();
        RunState? run = null;
        var parked = DateTimeOffset.MaxValue;
        foreach (var e in events)
        {
            if (run?.Outstanding is { } order)
            {
                if (e is OrderEnded ended && ended.Order == order.Name && order.Kind == OrderKind.Step)
                {
                    if (!IsWithinPatching(run, ended))
                        steps.Add(
                            new(
                                new(run.CurrentLeg.Hop, run.CurrentLeg.Method, order.Name.Step),
                                model,
                                site,
                                order.Name.Attempt > 1 && run.Patch is null,
                                ended.Result,
                                ended.Lasted ?? (e.At - (run.Patch?.Began ?? order.NotBefore))
                            )
                        );
                }
                else if (e is GateJudged judged && judged.Order == order.Name)
                    gates.Add(new(order.Moment!.Value, order.Name.Attempt > 1, judged.State));
            }

            if (e is Decided decided && run?.Parked is not null)
                decisions.Add(new(decided.Decision, e.At - parked));
            var after = RunMachine.Step(run, e).State;
            if (after.Parked is not null && run?.Parked is null)
                parked = e.At;
            run = after;
        }

        return new(steps.ToImmutable(), gates.ToImmutable(), decisions.ToImmutable());
    }

    /// <summary>Whether an order is only a part of a step that patches, which is measured as a whole.</summary>
    private static bool IsWithinPatching(RunState run, OrderEnded ended) =>
        run.Patch is { } patch && (ended.Result == OrderResult.NotYet || (ended.Result == OrderResult.Ok && patch.Part != PatchPart.Look));

    /// <summary>What several runs show together.</summary>
    public static Measurements Together(IReadOnlyCollection<Measurements> all)
    {
        ArgumentNullException.ThrowIfNull(all);
        return new([.. all.SelectMany(m => m.Steps)], [.. all.SelectMany(m => m.Gates)], [.. all.SelectMany(m => m.Decisions)])
        {
            Fixings = [.. all.SelectMany(m => m.Fixings)],
        };
    }
}
