using System.Collections.Immutable;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Conditions;
using GrandStair.Core.Gates;
using GrandStair.Core.Readings;

namespace GrandStair.Core.Methods;

/// <summary>A method that was not chosen.</summary>
/// <param name="Method">Its name.</param>
/// <param name="Why">Why not, in a sentence.</param>
public sealed record RejectedMethod(string Method, string Why);

/// <summary>A person's choice of the method for one machine.</summary>
/// <param name="Method">Its name.</param>
/// <param name="Reason">Why, in a sentence.</param>
/// <param name="By">Who chose it.</param>
/// <param name="At">When, UTC.</param>
public sealed record MethodOverride(string Method, string Reason, string By, DateTimeOffset At);

/// <summary>What people have decided about one machine within one plan.</summary>
/// <param name="Waivers">The waivers, oldest first.</param>
/// <param name="Method">The method that a person chose; null where the plan's order holds.</param>
public sealed record Decisions(ImmutableArray<Waiver> Waivers, MethodOverride? Method)
{
    /// <summary>Nothing was decided.</summary>
    public static Decisions None { get; } = new([], null);
}

/// <summary>One leg of a route as it is judged.</summary>
/// <param name="Product">The product.</param>
/// <param name="Hop">The leg's hop.</param>
/// <param name="Checks">The hop's own checks and those that its known issues come to.</param>
/// <param name="Brought">The keys that earlier legs bring; null on the first.</param>
public sealed record LegCase(Product Product, Hop Hop, ImmutableArray<Check> Checks, IReadOnlySet<string>? Brought);

/// <summary>The method by which a machine does a hop.</summary>
/// <param name="Hop">The hop.</param>
/// <param name="Method">The method; null where none will do or it is unknown.</param>
/// <param name="Gate">The gate by that method, or by the upgrade that it takes the place of; null without either.</param>
/// <param name="Rejected">The methods that come before it in the order, with the reason against each.</param>
/// <param name="Why">Why there is none; null where there is one.</param>
/// <param name="Unknown">Whether there is none because it is unknown whether one suits.</param>
public sealed record MethodChoice(
    Hop Hop,
    Method? Method,
    Gate? Gate,
    ImmutableArray<RejectedMethod> Rejected,
    string? Why,
    bool Unknown = false
)
{
    /// <summary>The person's choice that was followed; null where the plan's order was.</summary>
    public MethodOverride? Overridden { get; init; }

    /// <summary>
    /// The first in the order of preference that does the hop, preserves enough, suits, and whose gate is open or can be fixed; where
    /// nobody can fix the hop's own checks, the first that is no upgrade and suits, or else the first upgrade, with its blocked gate.
    /// Where it is unknown whether one suits, the choice stops there and never falls through to one that preserves less.
    /// </summary>
    public static MethodChoice Choose(
        LegCase leg,
        IEnumerable<string> preference,
        Preserves preserves,
        Machine machine,
        Moment moment,
        DateTimeOffset now,
        Decisions decisions
    )
    {
        ArgumentNullException.ThrowIfNull(leg);
        ArgumentNullException.ThrowIfNull(decisions);
        if (decisions.Method is { } chosen && leg.Product.Method(chosen.Method)?.Hops.Contains(leg.Hop.Name) == true)
            return Choose(leg, [chosen.Method], Preserves.None, machine, moment, now, decisions with { Method = null }) with
            {
                Overridden = chosen,
            };

        var against = ImmutableArray.CreateBuilder<RejectedMethod>();
        MethodChoice? notFixable = null;
        foreach (var name in preference)
        {
            var method = leg.Product.Method(name);
            if (WhyNot(method, leg.Hop, preserves) is { } why)
            {
                against.Add(new(name, why));
                continue;
            }

            if (LacksOwner(method!, machine))
            {
                against.Add(new(name, NoOwner));
                continue;
            }

            var suits = method!.Suits?.Ask(machine, new EvaluationContext(now));
            if (suits?.Value == Kleene.Unknown)
                return notFixable
                    ?? new(leg.Hop, null, null, against.ToImmutable(), $"unknown whether {name} suits: {Tell(suits)}", Unknown: true);
            if (suits?.Value == Kleene.No)
            {
                against.Add(new(name, $"it does not suit: {Tell(suits)}"));
                continue;
            }

            if (method.Way != Way.Upgrade)
                return new(leg.Hop, method, notFixable?.Gate, against.ToImmutable(), null);
            var gate = Gate.Judge(leg.Checks.Concat(method.Checks), machine, moment, now, decisions.Waivers, leg.Brought);
            var nobodys = gate.InTheWay.Where(c => c.State == CheckState.Unmet && c.Check.Fix.By == FixedBy.Nobody).ToArray();
            if (nobodys.FirstOrDefault(c => method.Checks.Contains(c.Check)) is { } own)
            {
                against.Add(new(name, own.Check.Title));
                continue;
            }

            var choice = new MethodChoice(leg.Hop, method, gate, against.ToImmutable(), null);
            if (nobodys.Length == 0)
                return choice;
            notFixable ??= choice;
            against.Add(new(name, $"cannot be fixed: {string.Join("; ", nobodys.Select(c => c.Check.Title))}"));
        }

        return notFixable
            ?? new(
                leg.Hop,
                null,
                null,
                against.ToImmutable(),
                "no method of the plan will do: " + string.Join("; ", against.Select(a => $"{a.Method}, {a.Why}"))
            );
    }

    /// <summary>What is against a method that needs the machine's owner there where the machine has none.</summary>
    internal const string NoOwner = "its owner has to be there, and the machine has none";

    /// <summary>Whether a method needs an owner there and the machine has none.</summary>
    internal static bool LacksOwner(Method method, Machine machine) => method.Needs.OwnerPresent && machine.Owner.Length == 0;

    /// <summary>Why a method is out of the question whatever the machine; null where it is not.</summary>
    internal static string? WhyNot(Method? method, Hop hop, Preserves preserves)
    {
        if (method is null || !method.Hops.Contains(hop.Name))
            return $"it does not do hop {hop.Name}";
        return method.Way == Way.Upgrade && method.Preserves < preserves
            ? $"it preserves {Lower(method.Preserves)} only, and the plan wants {Lower(preserves)}"
            : null;
    }

    private static string Lower(Preserves preserves) => preserves.ToString().ToLowerInvariant();

    private static string Tell(Answer answer) =>
        string.Join(", ", answer.Leaves.Select(l => $"{l.Text} ({l.Note ?? (l.Reading is null ? "never read" : "found: " + l.Show())})"));
}
