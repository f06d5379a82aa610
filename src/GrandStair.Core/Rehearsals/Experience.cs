using System.Collections.Immutable;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Gates;
using GrandStair.Core.Runs;
using MathNet.Numerics.Distributions;

namespace GrandStair.Core.Rehearsals;

/// <summary>
/// What was measured, made into something to draw from. Where few cases are known they lean on the wider class: a model or an uplink on
/// its step, and a step on what its method says is typical. How little is known is part of what is drawn: once for a whole draw, since
/// what is thought wrongly of a step is wrong for all its machines.
/// </summary>
public sealed class Experience
{
    // How many standard deviations above the middle 95 of 100 lie below.
    private static readonly double Ninety5 = Normal.InvCDF(0, 1, 0.95);

    private readonly Dictionary<StepKey, StepExperience> _steps = [];
    private readonly ILookup<StepKey, MeasuredStep> _measured;
    private readonly Dictionary<(Moment, bool), (int Open, int Undecided, int Blocked)> _gates;
    private readonly Dictionary<Decision, int> _decisions;
    private readonly Logs _decides;
    private readonly TimeSpan[] _fixings;

    /// <summary>Learns from what was measured.</summary>
    public Experience(Measurements measured)
    {
        ArgumentNullException.ThrowIfNull(measured);
        _measured = measured.Steps.ToLookup(s => s.Step);
        _gates = measured
            .Gates.GroupBy(g => (g.Moment, g.Again))
            .ToDictionary(
                g => g.Key,
                g =>
                    (
                        g.Count(x => x.State == GateState.Open),
                        g.Count(x => x.State == GateState.Undecided),
                        g.Count(x => x.State == GateState.Blocked)
                    )
            );
        _decisions = measured.Decisions.CountBy(d => d.Decision).ToDictionary();
        _fixings = [.. measured.Fixings];
        _decides = new(Usual.Decides, Usual.DecidesSpread, [.. measured.Decisions.Select(d => d.After)]);
    }

    /// <summary>
    /// How long a method usually takes for a hop on machines of a model, to the second: the median of every step; what the method says
    /// where nothing was measured.
    /// </summary>
    public MethodLengths Lengths(string hop, Method method, string model)
    {
        ArgumentNullException.ThrowIfNull(method);
        return method.LengthsBy(step => TimeSpan.FromSeconds(Math.Round(UsualLength(hop, method.Name, step, model).Middle.TotalSeconds)));
    }

    /// <summary>How long a step usually takes on machines of a model, whatever its site.</summary>
    /// <param name="hop">The hop.</param>
    /// <param name="method">The method's name.</param>
    /// <param name="step">The step.</param>
    /// <param name="model">The model; empty where it is not known.</param>
    public UsualLength UsualLength(string hop, string method, StepSpec step, string model)
    {
        ArgumentNullException.ThrowIfNull(step);
        var known = Of(new(hop, method, step.Name), step);
        var (middle, off) = known.Middle(model, "", null);
        var spread = Math.Sqrt((known.Lasts.Deviation * known.Lasts.Deviation) + (off * off));
        return new(Logs.Span(middle), Logs.Span(middle + (spread * Ninety5)), known.Lasts.Count);
    }

    /// <summary>The course of one draw.</summary>
    /// <param name="seed">The seed; the same one gives the same draws.</param>
    /// <param name="draw">The draw's number.</param>
    /// <param name="fixing">How long after its wave begins a machine that is not ready is usually made ready; null for never.</param>
    public IWorldModel Draw(ulong seed, int draw, TimeSpan? fixing) =>
        new Drawn(this, new Chances(seed, draw), fixing is { } usual ? new Logs(usual, Usual.FixesSpread, _fixings) : null);

    private StepExperience Of(StepKey key, StepSpec step)
    {
        lock (_steps)
        {
            if (!_steps.TryGetValue(key, out var known))
                _steps[key] = known = new(Name($"{key.Hop}/{key.Method}/{key.Step}"), step, [.. _measured[key]]);
            return known;
        }
    }

    /// <summary>A number for a name, the same in every process (FNV-1a).</summary>
    private static long Name(string name)
    {
        var hash = 14695981039346656037UL;
        foreach (var sign in name)
            hash = (hash ^ sign) * 1099511628211UL;
        return (long)(hash >> 1);
    }

    /// <summary>What is taken for usual until it was measured, and how many measured cases it takes to outweigh it.</summary>
    private static class Usual
    {
        /// <summary>
        /// How far what a method says is typical is off, as a standard deviation of logarithms: two thirds lie within a third of it.
        /// </summary>
        public const double StepSpread = 0.3;

        /// <summary>How far models, and uplinks, differ from what is usual for a step.</summary>
        public const double ModelSpread = 0.15;
        public const double UplinkSpread = 0.4;

        /// <summary>As how many measured cases what is usual counts.</summary>
        public const double Weight = 3;

        public const double DecidesSpread = 0.8;
        public const double ReturnsSpread = 0.6;
        public const double FixesSpread = 0.6;

        /// <summary>How many times as long as it has taken already it takes where that is longer than anything that is known.</summary>
        public const double FixesLonger = 1.25;

        /// <summary>How often a step fails at first, and when it has failed before.</summary>
        public static readonly (double Fails, double Of) Step = (0.3, 15),
            StepAgain = (0.6, 3);

        /// <summary>How often a gate is not open that was so when the run was opened, and when it was asked before.</summary>
        public static readonly (double Fails, double Of) Gate = (0.3, 15),
            GateAgain = (0.6, 3);

        /// <summary>How many cases of a step it takes until a model's own failures count as much as those of all.</summary>
        public const double ModelFailures = 12;

        public static readonly TimeSpan Decides = TimeSpan.FromHours(8);
        public static readonly TimeSpan Returns = TimeSpan.FromHours(48);

        /// <summary>How often a machine is tried before it is exempted.</summary>
        public const int Attempts = 3;

        /// <summary>As how many measured decisions what is usual counts: nearly always it is tried again.</summary>
        public static double Weighs(Decision decision) =>
            decision switch
            {
                Decision.Retry or Decision.Wait => 2,
                Decision.RollBack or Decision.Cancel => 0.06,
                _ => 0.03,
            };
    }

    /// <summary>Times that spread as their logarithms do: those that were measured, and what is usual beside them.</summary>
    private sealed class Logs
    {
        private readonly double _usual;
        private readonly double _spread;
        private readonly double[] _apart;

        /// <summary>Times around a middle.</summary>
        /// <param name="usual">The usual time.</param>
        /// <param name="spread">How far times are usually off, as a standard deviation of logarithms.</param>
        /// <param name="measured">Those that were measured.</param>
        public Logs(TimeSpan usual, double spread, TimeSpan[] measured)
            : this(usual, spread, [.. measured.Select(Log)]) { }

        public Logs(TimeSpan usual, double spread, double[] logs)
        {
            (_usual, _spread) = (Log(usual), spread);
            Middle = ((Usual.Weight * _usual) + logs.Sum()) / (Usual.Weight + logs.Length);
            _apart = [.. logs.Select(l => l - Middle).Order()];
            Deviation = Math.Sqrt(((Usual.Weight * spread * spread) + _apart.Sum(r => r * r)) / (Usual.Weight + logs.Length));
        }

        public int Count => _apart.Length;

        public double Middle { get; }

        public double Deviation { get; }

        /// <summary>How far the middle itself may be off.</summary>
        public double MiddleOff => Deviation / Math.Sqrt(Usual.Weight + Count);

        /// <summary>How far one case is from the middle: as one that was measured, or as is usual.</summary>
        public double Apart(double which, double how)
        {
            var share = Count / (Usual.Weight + Count);
            return which < share ? _apart[(int)(which / share * Count)] : Normal.InvCDF(0, _spread, how);
        }

        public static double Log(TimeSpan time) => Math.Log(Math.Max(1, time.TotalSeconds));

        /// <summary>A time of such a logarithm, at most a hundred days.</summary>
        public static TimeSpan Span(double log) => TimeSpan.FromSeconds(Math.Min(Math.Exp(log), 8_640_000));
    }

    /// <summary>What is known of one step of a method.</summary>
    private sealed class StepExperience
    {
        private readonly Dictionary<string, (double Middle, double Off)> _models;
        private readonly Dictionary<string, (double Middle, double Off)> _uplinks;
        private readonly Dictionary<(string? Model, bool Again), (int Failed, int All)> _counts;

        public StepExperience(long number, StepSpec step, MeasuredStep[] measured)
        {
            Number = number;
            Typical = Logs.Log(step.Typical);
            ByUplink = step.UsesUplink;
            var went = measured.Where(m => m.Result == OrderResult.Ok).ToArray();
            var first = new Logs(step.Typical, Usual.StepSpread, [.. went.Select(m => m.Lasted)]);
            _uplinks = ByUplink
                ? Effects(went, m => m.Site, m => Logs.Log(m.Lasted) - first.Middle, first.Deviation, Usual.UplinkSpread)
                : [];
            _models = Effects(
                went,
                m => m.Model,
                m => Logs.Log(m.Lasted) - first.Middle - Of(_uplinks, m.Site),
                first.Deviation,
                Usual.ModelSpread
            );
            Lasts = new(
                step.Typical,
                Usual.StepSpread,
                [.. went.Select(m => Logs.Log(m.Lasted) - Of(_uplinks, m.Site) - Of(_models, m.Model))]
            );
            _counts = measured
                .GroupBy(m => ((string?)m.Model, m.Again))
                .Concat(measured.GroupBy(m => ((string?)null, m.Again)))
                .ToDictionary(g => g.Key, g => (g.Count(m => m.Result != OrderResult.Ok), g.Count()));
            var failed = measured
                .Where(m => m.Result != OrderResult.Ok)
                .Select(m => Logs.Log(m.Lasted) - Middle(m.Model, m.Site, null).Middle)
                .ToArray();
            FailsAfter = ((Usual.Weight * Math.Log(0.7)) + failed.Sum()) / (Usual.Weight + failed.Length);
        }

        /// <summary>
        /// The key of its draws: its name, so that neither the order of evaluation nor the rest of the plan changes them.
        /// </summary>
        public long Number { get; }

        public Logs Lasts { get; }

        /// <summary>What of its time has passed when it fails, as a logarithm.</summary>
        public double FailsAfter { get; }

        private double Typical { get; }

        private bool ByUplink { get; }

        /// <summary>The middle of what it takes on a model over a site's uplink, as a logarithm, and how far that may be off.</summary>
        /// <param name="model">The model.</param>
        /// <param name="site">The site.</param>
        /// <param name="over">How long the uplink takes as the plan says it, which is believed of one that was not measured; null where it
        /// is in nobody's way.</param>
        public (double Middle, double Off) Middle(string model, string site, TimeSpan? over)
        {
            var (byModel, modelOff) = _models.GetValueOrDefault(model, (0, Usual.ModelSpread));
            var slower = over is { } uplink ? Math.Max(0, Logs.Log(uplink) - Typical) : 0;
            var (byUplink, uplinkOff) = !ByUplink
                ? (0, 0)
                : _uplinks.GetValueOrDefault(site, (slower, slower > 0 ? Usual.StepSpread : Usual.UplinkSpread));
            return (Lasts.Middle + byModel + byUplink, Math.Sqrt((modelOff * modelOff) + (uplinkOff * uplinkOff)));
        }

        /// <summary>How often it fails: of all, and of one model.</summary>
        public ((int Failed, int All) All, (int Failed, int All) Model) Failures(string model, bool again) =>
            (_counts.GetValueOrDefault((null, again)), _counts.GetValueOrDefault((model, again)));

        private static double Of(Dictionary<string, (double Middle, double Off)> effects, string name) =>
            effects.GetValueOrDefault(name).Middle;

        /// <summary>By how much each of several is off from all: few cases lean on none at all.</summary>
        private static Dictionary<string, (double Middle, double Off)> Effects(
            MeasuredStep[] went,
            Func<MeasuredStep, string> of,
            Func<MeasuredStep, double> apart,
            double deviation,
            double between
        ) =>
            went.GroupBy(of)
                .ToDictionary(
                    g => g.Key,
                    g =>
                    {
                        var (known, usual) = (g.Count() / (deviation * deviation), 1 / (between * between));
                        return (known / (known + usual) * g.Average(apart), Math.Sqrt(1 / (known + usual)));
                    }
                );
    }

    /// <summary>One draw.</summary>
    private sealed class Drawn(Experience experience, Chances chances, Logs? fixes) : IWorldModel
    {
        private const int Decides = -1,
            Fixes = -2,
            Returns = -3,
            Gates = -4;
        private const int MostFixes = 40;
        private readonly Dictionary<object, Dictionary<(string Model, string Uplink, bool Again), Going>> _going = new(
            ReferenceEqualityComparer.Instance
        );
        private readonly Dictionary<(Moment, bool), double> _notOpen = [];

        public SimulatedResult Step(RehearsedMachine machine, LegSpec leg, StepSpec step, OrderName order, DateTimeOffset at)
        {
            var again = order.Attempt > 1;
            var going = Of(machine, leg, step, again);
            var (whose, kind) = (machine.Request.Machine.Value, going.Known.Number);
            var attempt = (order.Run << 8) + order.Attempt;
            var log =
                going.Middle + going.Known.Lasts.Apart(chances.Uniform(kind, whose, attempt), chances.Uniform(kind + 1, whose, attempt));
            return chances.Uniform(kind + 2, whose, attempt) < going.Fails
                ? new(Logs.Span(log + going.Known.FailsAfter), OrderResult.Failed)
                : new(Logs.Span(log), OrderResult.Ok);
        }

        public GateState Gate(RehearsedMachine machine, Moment moment, OrderName order, DateTimeOffset at)
        {
            var again = order.Attempt > 1;
            var (open, undecided, blocked) = experience._gates.GetValueOrDefault((moment, again));
            if (!_notOpen.TryGetValue((moment, again), out var notOpen))
                _notOpen[(moment, again)] = notOpen = Share(
                    again ? Usual.GateAgain : Usual.Gate,
                    undecided + blocked,
                    open + undecided + blocked,
                    chances.Uniform(Gates, (long)moment, again ? 1 : 0)
                );
            var luck = chances.Uniform(Gates - 1 - (int)moment, machine.Request.Machine.Value, (order.Run << 8) + order.Attempt);
            if (luck >= notOpen)
                return GateState.Open;
            return luck / notOpen < (undecided + 1.0) / (undecided + blocked + 2) ? GateState.Undecided : GateState.Blocked;
        }

        public (TimeSpan After, Decision Decision) Decide(
            RehearsedMachine machine,
            RunState run,
            OrderName order,
            ImmutableArray<Decision> possible
        )
        {
            var (whose, attempt) = (machine.Request.Machine.Value, (order.Run << 8) + order.Attempt);
            var after = Logs.Span(
                experience._decides.Middle
                    + (experience._decides.MiddleOff * chances.Gauss(Decides, 0, 0))
                    + experience._decides.Apart(chances.Uniform(Decides, whose, attempt), chances.Uniform(Decides, whose, -attempt))
            );
            var luck = chances.Uniform(Decides, -whose, attempt) * possible.Sum(Weight);
            foreach (var decision in possible)
            {
                luck -= Weight(decision);
                if (luck < 0)
                    return (after, decision);
            }

            return (after, possible[^1]);
        }

        public TimeSpan? Fix(RehearsedMachine machine, TimeSpan waited)
        {
            if (fixes is null)
                return null;
            var whose = machine.Request.Machine.Value;
            // A machine that was not made ready for so long is one of those that take longer.
            for (var attempt = 1; attempt < MostFixes; attempt += 2)
            {
                var after = Logs.Span(
                    fixes.Middle
                        + (fixes.MiddleOff * chances.Gauss(Fixes, 0, 0))
                        + fixes.Apart(chances.Uniform(Fixes, whose, attempt), chances.Uniform(Fixes, whose, attempt + 1))
                );
                if (after > waited)
                    return after;
            }

            return waited * Usual.FixesLonger;
        }

        public TimeSpan? Again(RehearsedMachine machine, int attempts) =>
            attempts >= Usual.Attempts
                ? null
                : Logs.Span(
                    Logs.Log(Usual.Returns) + (Usual.ReturnsSpread * chances.Gauss(Returns, machine.Request.Machine.Value, attempts))
                );

        private double Weight(Decision decision) => Usual.Weighs(decision) + experience._decisions.GetValueOrDefault(decision);

        private Going Of(RehearsedMachine machine, LegSpec leg, StepSpec step, bool again)
        {
            var uplink = step.UsesUplink ? machine.Request.Site : "";
            if (!_going.TryGetValue(step, out var ofStep))
                _going[step] = ofStep = [];
            if (ofStep.TryGetValue((machine.Model, uplink, again), out var going))
                return going;
            var known = experience.Of(new(leg.Hop, leg.Method, step.Name), step);
            // What is brought over the uplink is brought by the longest step of staging.
            var brings = step.UsesUplink && leg.Steps.Where(s => s.UsesUplink).MaxBy(s => s.Typical) == step;
            var (middle, off) = known.Middle(machine.Model, uplink, brings ? machine.OverUplink : null);
            var name = Name(machine.Model) ^ (Name(uplink) << 1);
            middle += (known.Lasts.MiddleOff * chances.Gauss(known.Number, 1, 0)) + (off * chances.Gauss(known.Number, 2, name));
            var (all, model) = known.Failures(machine.Model, again);
            var usual = again ? Usual.StepAgain : Usual.Step;
            var ofAll = (usual.Fails + all.Failed) / (usual.Of + all.All);
            var fails = Share(
                (ofAll * Usual.ModelFailures, Usual.ModelFailures),
                model.Failed,
                model.All,
                chances.Uniform(known.Number, 3, name ^ (again ? 1 : 0))
            );
            return ofStep[(machine.Model, uplink, again)] = new(known, middle, fails);
        }

        /// <summary>A share that is known from some cases, drawn as little as that is known: Beta's distribution.</summary>
        private static double Share((double Fails, double Of) usual, int failed, int all, double at) =>
            Beta.InvCDF(usual.Fails + failed, usual.Of - usual.Fails + all - failed, at);

        /// <summary>How a step goes on a model over an uplink in this draw.</summary>
        private sealed record Going(StepExperience Known, double Middle, double Fails);
    }
}
