using System.Collections.Immutable;
using System.Numerics;
using System.Runtime.CompilerServices;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Conditions;
using GrandStair.Core.Gates;
using GrandStair.Core.Methods;
using GrandStair.Core.Readings;
using GrandStair.Core.Routes;

namespace GrandStair.Core.Readiness;

public sealed partial class FleetJudgement
{
    /// <summary>
    /// One pass over the fleet. Machines that are at the same place with the same known issues share a route; every condition is asked
    /// of all machines at once; then each machine's gate is put together from the answers.
    /// </summary>
    private sealed class Pass(FleetJudgement of)
    {
        private const byte No = (byte)Kleene.No;
        private const byte Unknown = (byte)Kleene.Unknown;
        private const byte Yes = (byte)Kleene.Yes;
        private const byte Unmet = (byte)CheckState.Unmet;
        private readonly Aim _aim = of.Aim;
        private readonly FleetColumns _fleet = of.Fleet;
        private readonly EvaluationContext _context = new(of.Now);
        private readonly Dictionary<string, Answers> _answers = new(StringComparer.Ordinal);
        private readonly Dictionary<string, Dictionary<object, Cell>> _cells = new(StringComparer.Ordinal);
        private readonly Dictionary<string, LegPlan> _legs = new(StringComparer.Ordinal);
        private readonly List<Answers> _toAsk = [];

        public void Run()
        {
            var product = _aim.Product;
            var isOf = Wanted(product.Is, null, "", null);
            var touches = product.KnownIssues.Select(i => Wanted(i.Touches, null, "", null)).ToArray();
            var offered = _aim.Releases.ToDictionary(
                r => r,
                r => r is { Status: ReleaseStatus.PhasedIn, OfferedTo: { } to } ? Wanted(to, null, "", null) : null
            );
            AskAll();
            var (groupOf, groups) = Groups(isOf, touches);
            var plans = groups.Select(g => Plan(g.Row, g.Touching, offered)).ToArray();
            AskAll();
            Parallel.ForEach(_cells.SelectMany(c => c.Value.Values), c => c.Settle(_fleet.Count));
            Parallel.ForEach(_legs.Values, l => l.Settle(_fleet.Count));
            Parallel.For(0, (_fleet.Count + RowsAtOnce - 1) / RowsAtOnce, part =>
                Judge(part * RowsAtOnce, Math.Min(_fleet.Count, (part + 1) * RowsAtOnce), groupOf, plans)
            );
            // One column is written by one hand, whichever legs its check stands on.
            Parallel.ForEach(_legs.Values.SelectMany(l => l.Marks()).GroupBy(m => m.Cell.Column), column =>
            {
                foreach (var (leg, place, cell) in column)
                    cell.Column.Raise(leg.GatedBy, place, cell.States);
            });

            var until = _answers.Values.Min(a => a.Until);
            of.Until = until == long.MaxValue ? null : new DateTimeOffset(until, TimeSpan.Zero);
        }

        [MethodImpl(MethodImplOptions.AggressiveOptimization)]
        private void Judge(int from, int to, int[] groupOf, GroupPlan[] plans)
        {
            for (var row = from; row < to; row++)
            {
                of._methods[row] = -1;
                of._reasonOf[row] = NoReason;
                if (groupOf[row] >= 0)
                    Judge(row, plans[groupOf[row]]);
            }
        }

        [MethodImpl(MethodImplOptions.AggressiveOptimization)]
        private void Judge(int row, GroupPlan plan)
        {
            if (plan.Legs.Length == 0)
            {
                of._places[row] = plan.Route.Arrived ? Place.Arrived : PlaceOf(Assessment.StateOf(plan.Route));
                if (plan.Route.Arrived)
                    return;
                if (plan.Route is { IsUnknown: false, NeedsPatches: false })
                    of._flags[row] = CannotBeFixed;
                of._reasonOf[row] = plan.Reason;
                return;
            }

            var worst = GateState.Open;
            var (gated, fixable, lacking) = (true, true, false);
            var hopsOpen = true;
            for (var i = 0; i < plan.Legs.Length; i++)
            {
                var leg = plan.Legs[i];
                var (method, gate, unknown, state) = Choose(row, leg);
                if (i == 0 && method is not null)
                    of._methods[row] = method.Index;
                if (state > worst)
                    worst = state;
                if (gate is null)
                {
                    gated = false;
                    lock (of._reasons)
                        of._reasonOf[row] = of.NumberOf(ReasonFor(row, leg, method, unknown));
                    if (!unknown)
                        fixable = false;
                }
                else
                {
                    leg.GatedBy[row] = gate.Place;
                    if (leg.Hop.IsHopeless(row) || gate.Own.IsHopeless(row))
                        fixable = false;
                }

                if (method is { IsUpgrade: false })
                    fixable = false;
                if (method is not null)
                    continue;
                lacking |= !unknown;
                hopsOpen &= leg.Hop.StateOf(row) == GateState.Open;
            }

            var waits = lacking && hopsOpen && OfferOf(row, plan) == Offer.NotYet;
            of._places[row] = PlaceOf(worst);
            of._flags[row] = (byte)(
                (worst == GateState.Blocked && !fixable && !waits ? CannotBeFixed : 0)
                | (waits ? WaitsForOffer : 0)
                | (gated ? HasGates : 0)
            );
        }

        private static Offer OfferOf(int row, GroupPlan plan) =>
            plan.Release.Status != ReleaseStatus.PhasedIn
                ? Offer.ToAll
                : Assessment.OfferOf(plan.Offered is null ? Kleene.Unknown : (Kleene)plan.Offered.Values[row]);

        /// <summary>The method that is chosen, and the one whose gate counts; both as <see cref="MethodChoice.Choose"/> has them.</summary>
        [MethodImpl(MethodImplOptions.AggressiveOptimization)]
        private (MethodPlan? Method, MethodPlan? Gate, bool Unknown, GateState State) Choose(int row, LegPlan leg)
        {
            MethodPlan? notFixable = null;
            var hopeless = leg.Hop.IsHopeless(row);
            foreach (var method in leg.Methods)
            {
                if (method.Why is not null || MethodChoice.LacksOwner(method.Of!, _fleet[row]))
                    continue;
                var suits = method.Suits?.Values[row] ?? Yes;
                if (suits == No)
                    continue;
                if (suits == Unknown)
                    return notFixable is null
                        ? (null, null, true, GateState.Undecided)
                        : (notFixable, notFixable, false, GateState.Blocked);
                if (!method.IsUpgrade)
                    return (method, notFixable, false, GateState.Blocked);
                if (method.Own.IsHopeless(row))
                    continue;
                if (!hopeless)
                    return (method, method, false, Worse(leg.Hop.StateOf(row), method.Own.StateOf(row)));
                notFixable ??= method;
            }

            return (notFixable, notFixable, false, GateState.Blocked);
        }

        private static GateState Worse(GateState a, GateState b) => a > b ? a : b;

        private string ReasonFor(int row, LegPlan leg, MethodPlan? method, bool unknown)
        {
            if (method is not null)
                return method.Of!.Title;
            var each = leg.Methods.Select(m =>
                (
                    m.Name,
                    Why: m.Why
                        ?? (MethodChoice.LacksOwner(m.Of!, _fleet[row]) ? MethodChoice.NoOwner : null)
                        ?? (
                            m.Suits?.Values[row] == No
                                ? $"it does not suit: {m.Of!.Suits!.Text}"
                                : m.Own.All.FirstOrDefault(c => c.Must && c.Nobody && c.States[row] == Unmet)?.Column.Check.Title
                        )
                )
            );
            if (!unknown)
                return "no method of the plan will do: " + string.Join("; ", each.Select(e => $"{e.Name}, {e.Why}"));
            var stopped = leg.Methods.First(m =>
                m.Why is null && !MethodChoice.LacksOwner(m.Of!, _fleet[row]) && m.Suits?.Values[row] == Unknown
            );
            return $"unknown whether {stopped.Name} suits: {stopped.Of!.Suits!.Text}";
        }

        /// <summary>The group of every machine of the product, and of every group a machine and the known issues that touch it.</summary>
        private (int[] GroupOf, List<(int Row, KnownIssue[] Touching)> Groups) Groups(Answers isOf, Answers[] touches)
        {
            var product = _aim.Product;
            var groupOf = new int[_fleet.Count];
            for (var row = 0; row < groupOf.Length; row++)
                groupOf[row] = isOf.Values[row] == Yes && _fleet[row].IsInService ? 0 : -1;
            foreach (
                var key in new[] { product.VersionKey, product.EditionKey, product.BuildKey }
                    .OfType<string>()
                    .Concat(product.Components.Select(p => p.VersionKey))
                    .Append(KeyRegistry.PartlyUpgraded)
                    .Distinct()
            )
                Divide(groupOf, Codes(key));
            if (!_aim.But.IsEmpty)
            {
                var destinations = _aim.But.Select(b => (b.Release, b.LeastBuild)).Prepend((_aim.Release, _aim.LeastBuild)).ToList();
                Divide(
                    groupOf,
                    [.. Enumerable.Range(0, groupOf.Length).Select(row => destinations.IndexOf(_aim.DestinationOf(_fleet[row])))]
                );
            }

            foreach (var touch in touches)
                Divide(groupOf, [.. touch.Values.Select(v => v == No ? 0 : 1)]);

            var groups = new List<(int, KnownIssue[])>();
            for (var row = 0; row < groupOf.Length; row++)
            {
                // Groups are numbered in the order in which their first machines come.
                if (groupOf[row] != groups.Count)
                    continue;
                groups.Add((row, [.. product.KnownIssues.Where((_, i) => touches[i].Values[row] != No)]));
            }

            return (groupOf, groups);
        }

        /// <summary>Divides every group by a code, and numbers the groups again in the order of their first rows.</summary>
        private static void Divide(int[] groupOf, int[] codes)
        {
            var numbers = new Dictionary<(int Group, int Code), int>();
            for (var row = 0; row < groupOf.Length; row++)
            {
                if (groupOf[row] < 0)
                    continue;
                var divided = (groupOf[row], codes[row]);
                if (!numbers.TryGetValue(divided, out var number))
                    numbers[divided] = number = numbers.Count;
                groupOf[row] = number;
            }
        }

        /// <summary>A number for every distinct value under a key, by row; -1 where there is none.</summary>
        private int[] Codes(string key)
        {
            var codes = new int[_fleet.Count];
            Array.Fill(codes, -1);
            if (_fleet.Find(key) is not { } column)
                return codes;
            for (var row = 0; row < Math.Min(codes.Length, column.Code.Length); row++)
                if (column.State[row] == (byte)(ReadingState.Value + 1))
                    codes[row] = column.Code[row];
            return codes;
        }

        private GroupPlan Plan(int row, KnownIssue[] touching, Dictionary<Release, Answers?> offered)
        {
            var release = _aim.ReleaseFor(_fleet[row]);
            var route = _aim.RouteOf(_fleet[row], touching);
            if (route.Hops.IsEmpty)
                return new(release, offered[release], route, [], route.Arrived ? NoReason : of.NumberOf(Assessment.WhyNot(route)));
            var legs = new LegPlan[route.Hops.Length];
            ImmutableArray<Reading> brought = [];
            for (var i = 0; i < legs.Length; i++)
            {
                var supposed = i == 0 ? null : new Supposed(brought);
                legs[i] = Leg(
                    route.Hops[i],
                    _aim.Product.ChecksOf(route.Hops[i], touching, _aim.LeastBuildOf(route.Hops[i], _fleet[row])),
                    supposed
                );
                brought = _aim.Brings(route, i, brought, of.Now);
            }

            return new(release, offered[release], route, legs, NoReason);
        }

        private LegPlan Leg(Hop hop, ImmutableArray<Check> checks, Supposed? supposed)
        {
            var supposedName = supposed?.Name ?? "";
            var name = $"{hop.Name}\n{supposedName}\n{string.Join(',', checks.Skip(hop.Checks.Length).Select(c => c.Name))}";
            if (_legs.TryGetValue(name, out var known))
                return known;
            var methods = _aim.Methods.Select(
                (title, place) =>
                {
                    var method = _aim.Product.Method(title);
                    var why = MethodChoice.WhyNot(method, hop, _aim.Preserves);
                    return why is not null
                        ? new MethodPlan(title, -1, (byte)(place + 1), method, why, null, new([]))
                        : new MethodPlan(
                            title,
                            (short)_aim.Product.Methods.IndexOf(method!),
                            (byte)(place + 1),
                            method,
                            null,
                            method!.Suits is { } suits ? Wanted(suits, null, supposedName, supposed) : null,
                            Cells(method.Checks, supposed)
                        );
                }
            );
            return _legs[name] = new(Cells(checks, supposed), [.. methods], _fleet.Count);
        }

        private Cells Cells(IEnumerable<Check> checks, Supposed? supposed) =>
            new([.. checks.Select(c => CellOf(c, supposed)).OfType<Cell>()]);

        private Cell? CellOf(Check check, Supposed? supposed)
        {
            if (Gate.IsAsked(check, Moment.Planning) is not { } asked)
                return null;
            var supposedName = supposed?.Name ?? "";
            if (!_cells.TryGetValue(supposedName, out var cells))
                _cells[supposedName] = cells = new(ReferenceEqualityComparer.Instance);
            if (cells.TryGetValue(check, out var known))
                return known;
            var wants = asked ? Wanted(check.Wants, check.Fresh, supposedName, supposed) : null;
            var applies = asked && check.AppliesTo is { } to ? Wanted(to, check.Fresh, supposedName, supposed) : null;
            return cells[check] = new(
                of.ColumnOf(check),
                check,
                wants,
                applies,
                supposed is not null && check.Keys.Any(k => supposed.Find(k) is not null)
            );
        }

        private Answers Wanted(Condition condition, TimeSpan? fresh, string supposedName, IReadable? supposed)
        {
            var name = $"{supposedName}\n{fresh}\n{condition.Written}";
            if (_answers.TryGetValue(name, out var known))
                return known;
            var answers = new Answers(condition, _context with { MaxAge = fresh }, supposed);
            _answers[name] = answers;
            _toAsk.Add(answers);
            return answers;
        }

        private void AskAll()
        {
            Parallel.ForEach(_toAsk, a => a.Ask(_fleet));
            _toAsk.Clear();
        }
    }

    /// <summary>A condition's answers by row, once they were asked for.</summary>
    private sealed class Answers(Condition condition, EvaluationContext context, IReadable? supposed)
    {
        private long _until = long.MaxValue;

        public byte[] Values { get; private set; } = [];

        public long Until => _until;

        public void Ask(FleetColumns fleet) => Values = FleetQuestion.Ask(condition, fleet, context, supposed, ref _until);
    }

    /// <summary>What earlier legs bring, as readings.</summary>
    private sealed class Supposed(ImmutableArray<Reading> readings) : IReadable
    {
        public string Name { get; } = string.Join(';', readings.Select(r => $"{r.Key}={r.Value!.Text}"));

        public Reading? Find(string key) => readings.FirstOrDefault(r => r.Key == key);
    }

    /// <summary>One check on one leg: its column, and what it comes to by row once it is settled.</summary>
    private sealed class Cell(CheckColumn column, Check check, Answers? wants, Answers? applies, bool isBrought)
    {
        public CheckColumn Column => column;

        public bool Must { get; } = check.Need == Need.Must;

        public bool Nobody { get; } = check.Fix.By == FixedBy.Nobody;

        public byte[] States { get; private set; } = [];

        /// <summary>Turns the answers into states.</summary>
        public void Settle(int count)
        {
            var states = States = new byte[count];
            if (wants is null)
            {
                Array.Fill(states, (byte)CheckState.Deferred);
                return;
            }

            Settle(states, wants.Values, State(Kleene.No), State(Kleene.Unknown), State(Kleene.Yes));
            if (applies is null)
                return;
            for (var i = 0; i < states.Length; i++)
                if (applies.Values[i] != (byte)Kleene.Yes)
                    states[i] = applies.Values[i] == (byte)Kleene.No ? (byte)CheckState.NotApplicable : (byte)CheckState.Unknown;
        }

        [MethodImpl(MethodImplOptions.AggressiveOptimization)]
        private static void Settle(byte[] states, byte[] answers, byte no, byte cannotTell, byte yes)
        {
            var (ifNo, ifCannotTell, ifYes) = (new Vector<byte>(no), new Vector<byte>(cannotTell), new Vector<byte>(yes));
            var i = 0;
            for (; i <= states.Length - Vector<byte>.Count; i += Vector<byte>.Count)
            {
                var answer = new Vector<byte>(answers, i);
                var told = Vector.ConditionalSelect(Vector.Equals(answer, new((byte)Kleene.Yes)), ifYes, ifNo);
                Vector.ConditionalSelect(Vector.Equals(answer, new((byte)Kleene.Unknown)), ifCannotTell, told).CopyTo(states, i);
            }

            for (; i < states.Length; i++)
                states[i] = answers[i] switch
                {
                    (byte)Kleene.Yes => yes,
                    (byte)Kleene.No => no,
                    _ => cannotTell,
                };
        }

        private byte State(Kleene answer) => (byte)Gate.StateOf(answer, check, isBrought);
    }

    /// <summary>Checks that are asked together, and the worst that its musts come to by row.</summary>
    private sealed class Cells(Cell[] all)
    {
        private byte[] _worst = [];
        private byte[] _worstOfNobodys = [];

        public Cell[] All => all;

        public void Settle(int count)
        {
            _worst = WorstOf(all.Where(c => c.Must), count);
            _worstOfNobodys = WorstOf(all.Where(c => c.Must && c.Nobody), count);
        }

        public GateState StateOf(int row) =>
            _worst[row] switch
            {
                (byte)CheckState.Unmet => GateState.Blocked,
                (byte)CheckState.Unknown => GateState.Undecided,
                _ => GateState.Open,
            };

        /// <summary>Whether a must is unmet that nobody can fix.</summary>
        public bool IsHopeless(int row) => _worstOfNobodys[row] == (byte)CheckState.Unmet;

        private static byte[] WorstOf(IEnumerable<Cell> cells, int count)
        {
            var worst = new byte[count];
            foreach (var states in cells.Select(c => c.States))
            {
                var i = 0;
                for (; i <= count - Vector<byte>.Count; i += Vector<byte>.Count)
                    Vector.Max(new Vector<byte>(worst, i), new Vector<byte>(states, i)).CopyTo(worst, i);
                for (; i < count; i++)
                    worst[i] = Math.Max(worst[i], states[i]);
            }

            return worst;
        }
    }

    private sealed record MethodPlan(string Name, short Index, byte Place, Method? Of, string? Why, Answers? Suits, Cells Own)
    {
        public bool IsUpgrade => Of is { Way: Way.Upgrade };
    }

    private sealed class LegPlan(Cells hop, MethodPlan[] methods, int count)
    {
        public Cells Hop => hop;

        public MethodPlan[] Methods => methods;

        /// <summary>The place of the method whose gate counts, by row; 0 where none does.</summary>
        public byte[] GatedBy { get; } = new byte[count];

        public void Settle(int rows)
        {
            hop.Settle(rows);
            foreach (var method in methods)
                method.Own.Settle(rows);
        }

        /// <summary>
        /// The checks whose answers go into their columns, on the machines that have this leg's gate by that method, or by any where the
        /// place is 0.
        /// </summary>
        public IEnumerable<(LegPlan Leg, byte Place, Cell Cell)> Marks() =>
            hop.All.Select(c => (this, (byte)0, c)).Concat(methods.SelectMany(m => m.Own.All.Select(c => (this, m.Place, c))));
    }

    private sealed record GroupPlan(Release Release, Answers? Offered, Route Route, LegPlan[] Legs, int Reason);
}
