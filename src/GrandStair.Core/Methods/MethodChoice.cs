using System.Collections.Immutable;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Conditions;
using GrandStair.Core.Gates;
using GrandStair.Core.Readings;

namespace GrandStair.Core.Methods;

/// <summary>A method that was not chosen.</summary>
/// <param name="Method">Its name.</param>
/// <param name="Why">Why not, in a sentence.</param>
public sealed record Against(string Method, string Why);

/// <summary>The method by which a machine does a hop.</summary>
/// <param name="Method">The method; null where none will do or it cannot be told.</param>
/// <param name="Gate">The gate by that method; null without one.</param>
/// <param name="Against">The methods that come before it in the plan's order, with the reason against each.</param>
/// <param name="Why">Why there is none; null where there is one.</param>
/// <param name="Untold">Whether there is none because it could not be told whether one suits.</param>
public sealed record MethodChoice(Method? Method, Gate? Gate, ImmutableArray<Against> Against, string? Why, bool Untold = false)
{
    /// <summary>
    /// The first in the order of preference that does the hop, carries enough, suits, and whose gate is open or can be mended.
    /// Where it cannot be told whether one suits, the choice stops there and never falls through to one that carries less.
    /// </summary>
    public static MethodChoice Choose(Product product, Hop hop, IEnumerable<string> preference, Carries carries, Machine machine, Moment moment, DateTimeOffset now)
    {
        var against = ImmutableArray.CreateBuilder<Against>();
        foreach (var name in preference)
        {
            var method = product.Method(name);
            if (method is null || !method.Hops.Contains(hop.Name))
            {
                against.Add(new(name, $"it does not do hop {hop.Name}"));
                continue;
            }

            if (method.Carries < carries)
            {
                against.Add(new(name, $"it carries {Lower(method.Carries)} only, and the plan wants {Lower(carries)}"));
                continue;
            }

            var suits = method.Suits?.Ask(machine, new Use(now));
            if (suits?.Value == Kleene.CannotTell)
                return new(null, null, against.ToImmutable(), $"cannot tell whether {name} suits: {Tell(suits)}", Untold: true);
            if (suits?.Value == Kleene.No)
            {
                against.Add(new(name, $"it does not suit: {Tell(suits)}"));
                continue;
            }

            var gate = Gate.Judge(hop.Checks.Concat(method.Checks), machine, moment, now);
            var hopless = Gate.Judge(method.Checks, machine, moment, now);
            if (hopless.CannotBeMended)
            {
                against.Add(new(name, hopless.InTheWay.First(c => c.Check.Fix.By == Mender.Nobody).Check.Title));
                continue;
            }

            return new(method, gate, against.ToImmutable(), null);
        }

        return new(null, null, against.ToImmutable(), "no method of the plan will do: " + string.Join("; ", against.Select(a => $"{a.Method}, {a.Why}")));
    }

    private static string Lower(Carries carries) => carries.ToString().ToLowerInvariant();

    private static string Tell(Answer answer) => string.Join(", ", answer.Leaves.Select(l =>
        $"{l.Text} ({l.Note ?? (l.Reading is null ? "never seen" : "seen " + l.Reading.Show())})"));
}
