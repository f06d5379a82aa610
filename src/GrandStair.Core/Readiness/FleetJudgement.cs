using System.Collections.Immutable;
using System.Numerics;
using System.Runtime.CompilerServices;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Conditions;
using GrandStair.Core.Gates;
using GrandStair.Core.Methods;
using GrandStair.Core.Readings;

namespace GrandStair.Core.Readiness;

/// <summary>Where a machine of a fleet is on the way to an aim.</summary>
public enum Place : byte
{
    /// <summary>It does not run the product, or that is unknown.</summary>
    Elsewhere,

    /// <summary>It runs the target.</summary>
    Arrived,

    /// <summary>It can go.</summary>
    Open,

    /// <summary>It is unknown whether it can go.</summary>
    Undecided,

    /// <summary>It cannot go.</summary>
    Blocked,
}

/// <summary>What one check came to on every machine of a fleet.</summary>
public sealed class CheckColumn
{
    private readonly byte[] _states;

    internal CheckColumn(Check check, int count)
    {
        Check = check;
        _states = new byte[count];
    }

    /// <summary>The check.</summary>
    public Check Check { get; }

    /// <summary>What came of it on the machine of a row, the worst over its legs; null where it was not asked there.</summary>
    public CheckState? this[int row] => _states[row] == 0 ? null : (CheckState)(_states[row] - 1);

    internal byte[] States => _states;

    internal void Raise(int row, byte state)
    {
        if (_states[row] <= state)
            _states[row] = (byte)(state + 1);
    }

    /// <summary>Raises every row that has a gate: by that method's place, or by any where the place is 0.</summary>
    [MethodImpl(MethodImplOptions.AggressiveOptimization)]
    internal void Raise(byte[] gatedBy, byte place, byte[] states)
    {
        var own = _states;
        var row = 0;
        for (; row <= own.Length - Vector<byte>.Count; row += Vector<byte>.Count)
        {
            var by = new Vector<byte>(gatedBy, row);
            var gated = place == 0 ? ~Vector.Equals(by, Vector<byte>.Zero) : Vector.Equals(by, new(place));
            Vector.Max(new Vector<byte>(own, row), gated & (new Vector<byte>(states, row) + Vector<byte>.One)).CopyTo(own, row);
        }

        for (; row < own.Length; row++)
            if (place == 0 ? gatedBy[row] != 0 : gatedBy[row] == place)
                Raise(row, states[row]);
    }

    internal void Clear(int row) => _states[row] = 0;
}

/// <summary>
/// The whole fleet judged for one aim, by columns: every machine's place and every check's answer. It says the same as
/// <see cref="Assessment.Of"/> says machine by machine; why is asked there. Not safe for threads.
/// </summary>
public sealed partial class FleetJudgement
{
    private const byte CannotBeFixed = 1;
    private const byte WaitsForOffer = 2;
    private const byte HasGates = 4;
    private const int NoReason = -1;
    private const int RowsAtOnce = 4096;
    private readonly Dictionary<string, CheckColumn> _columns = new(StringComparer.Ordinal);
    private readonly List<string> _reasons = [];
    private readonly Dictionary<string, int> _reasonNumbers = new(StringComparer.Ordinal);
    private readonly Place[] _places;
    private readonly byte[] _flags;
    private readonly short[] _methods;
    private readonly int[] _reasonOf;

    private FleetJudgement(Aim aim, FleetColumns fleet, DateTimeOffset now)
    {
        (Aim, Fleet, Now) = (aim, fleet, now);
        (_places, _flags, _methods, _reasonOf) = (
            new Place[fleet.Count],
            new byte[fleet.Count],
            new short[fleet.Count],
            new int[fleet.Count]
        );
    }

    /// <summary>What it was judged for.</summary>
    public Aim Aim { get; }

    /// <summary>The fleet.</summary>
    public FleetColumns Fleet { get; }

    /// <summary>How many rows it has; machines that came to the fleet later are not among them.</summary>
    public int Rows => _places.Length;

    /// <summary>When it was judged, UTC.</summary>
    public DateTimeOffset Now { get; }

    /// <summary>When an answer may change by readings growing older alone; null where none will. UTC.</summary>
    public DateTimeOffset? Until { get; private set; }

    /// <summary>Every check that was asked of a machine.</summary>
    public IReadOnlyCollection<CheckColumn> Checks => _columns.Values;

    /// <summary>Where the machine of a row is.</summary>
    public Place PlaceOf(int row) => _places[row];

    /// <summary>Whether nobody can fix what is in the way of the machine of a row.</summary>
    public bool IsNotFixable(int row) => (_flags[row] & CannotBeFixed) != 0;

    /// <summary>Whether all that keeps the machine of a row is that the release is not offered to it yet.</summary>
    public bool IsWaitingForOffer(int row) => (_flags[row] & WaitsForOffer) != 0;

    /// <summary>Whether the machine of a row has a gate on every leg of its route.</summary>
    public bool IsGated(int row) => (_flags[row] & HasGates) != 0;

    /// <summary>The method of the first leg of the machine of a row; null where it has none.</summary>
    public Method? MethodOf(int row) => _methods[row] < 0 ? null : Aim.Product.Methods[_methods[row]];

    /// <summary>Why the machine of a row has no gate on some leg, without its own readings; null where it has.</summary>
    public string? ReasonOf(int row) => _reasonOf[row] == NoReason ? null : _reasons[_reasonOf[row]];

    /// <summary>The column of a check; null where it was asked of no machine.</summary>
    public CheckColumn? Check(string name) => _columns.GetValueOrDefault(name);

    /// <summary>Judges a fleet for planning.</summary>
    /// <param name="aim">What it is judged for.</param>
    /// <param name="fleet">The fleet; it must not change while it is judged.</param>
    /// <param name="now">The time, UTC.</param>
    /// <param name="decisions">What people have decided, by machine.</param>
    public static FleetJudgement Of(
        Aim aim,
        FleetColumns fleet,
        DateTimeOffset now,
        IReadOnlyDictionary<MachineId, Decisions>? decisions = null
    )
    {
        ArgumentNullException.ThrowIfNull(aim);
        ArgumentNullException.ThrowIfNull(fleet);
        var judgement = new FleetJudgement(aim, fleet, now);
        new Pass(judgement).Run();
        foreach (var (machine, decided) in decisions ?? new Dictionary<MachineId, Decisions>())
            if (fleet.RowOf(machine) is { } row && judgement._places[row] != Place.Elsewhere)
                judgement.Rejudge(row, now, decided);
        return judgement;
    }

    /// <summary>Judges the machine of one row again, after a new reading or a decision.</summary>
    public void Rejudge(int row, DateTimeOffset now, Decisions? decisions = null)
    {
        var machine = Fleet[row];
        foreach (var column in _columns.Values)
            column.Clear(row);
        (_flags[row], _methods[row], _reasonOf[row]) = (0, -1, NoReason);
        if (!machine.IsInService || Aim.Product.Is.Ask(machine, new EvaluationContext(now)).Value != Kleene.Yes)
        {
            _places[row] = Place.Elsewhere;
            return;
        }

        var assessment = Assessment.Of(Aim, machine, Moment.Planning, now, decisions);
        _places[row] = assessment.Route.Arrived ? Place.Arrived : PlaceOf(assessment.State);
        if (assessment.CannotBeFixed)
            _flags[row] |= CannotBeFixed;
        if (assessment.IsWaitingForOffer)
            _flags[row] |= WaitsForOffer;
        if (!assessment.Legs.IsEmpty && assessment.Legs.All(l => l.Gate is not null))
            _flags[row] |= HasGates;
        else if (!assessment.Route.Arrived)
            _reasonOf[row] = NumberOf(assessment.Why!);
        if (assessment.Choice?.Method is { } method)
            _methods[row] = (short)Aim.Product.Methods.IndexOf(method);
        foreach (var result in assessment.Checks)
            ColumnOf(result.Check).Raise(row, (byte)result.State);
        if (assessment.Until is { } until && (Until is null || until < Until))
            Until = until;
    }

    private static Place PlaceOf(GateState state) =>
        state switch
        {
            GateState.Open => Place.Open,
            GateState.Undecided => Place.Undecided,
            _ => Place.Blocked,
        };

    private CheckColumn ColumnOf(Check check)
    {
        if (!_columns.TryGetValue(check.Name, out var column))
            _columns[check.Name] = column = new(check, Fleet.Count);
        return column;
    }

    private int NumberOf(string reason)
    {
        if (_reasonNumbers.TryGetValue(reason, out var number))
            return number;
        _reasons.Add(reason);
        return _reasonNumbers[reason] = _reasons.Count - 1;
    }
}
