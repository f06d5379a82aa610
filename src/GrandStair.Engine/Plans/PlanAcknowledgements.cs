using GrandStair.Core.Access;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Gates;
using GrandStair.Core.Plans;
using GrandStair.Core.Readings;
using GrandStair.Core.Refusals;
using GrandStair.Core.Waves;
using GrandStair.Engine.Catalogue;
using GrandStair.Engine.Fleet;
using GrandStair.Storage.Plans;

namespace GrandStair.Engine.Plans;

/// <summary>Something that a person has to acknowledge before a plan starts or goes on.</summary>
/// <param name="Kind"><c>must-read</c>, <c>licence-terms</c>, <c>caution</c> or <c>preserves</c>.</param>
/// <param name="Name">Its name.</param>
/// <param name="Title">What it is about.</param>
/// <param name="Words">The text to read, or how to fix it.</param>
/// <param name="Machines">How many machines it concerns.</param>
/// <param name="Covers">What exactly is acknowledged, as it is kept.</param>
/// <param name="Given">The acknowledgement of it; null while it is open, also where something else of that name was acknowledged
/// before.</param>
public sealed record ToAcknowledge(
    string Kind,
    string Name,
    string Title,
    string Words,
    int Machines,
    string Covers,
    Acknowledgement? Given
);

/// <summary>
/// What people acknowledge before a plan starts: what must be read, licence terms, warnings, and methods that do not preserve everything.
/// An acknowledgement covers the text that was read and, for such methods, the machines that it was given for; what is new asks again.
/// </summary>
public sealed class PlanAcknowledgements(
    CatalogueCache catalogues,
    FleetCache fleet,
    PlanTable plans,
    DecisionTable decisions,
    TimeProvider clock
)
{
    private const string LosesData = "preserves";

    /// <summary>Everything that has to be acknowledged for a plan.</summary>
    /// <param name="stored">The plan.</param>
    /// <param name="sites">The sites whose machines are counted.</param>
    /// <param name="stop">Ends the wait.</param>
    public async Task<IReadOnlyList<ToAcknowledge>> AllAsync(PlanRecord stored, SiteScope sites, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(stored);
        ArgumentNullException.ThrowIfNull(sites);
        var (plan, product) = await catalogues.ReadPlanAsync(stored, stop);
        var machines = await fleet.AllAsync(stop);
        var members = (await plans.MembersAsync(stored.Name, stop))
            .Where(m => m.Exemption is null && sites.Holds(machines[m.Machine].Site))
            .Select(m => m.Machine);
        return await AllAsync(plan, product, [.. members], stop);
    }

    /// <summary>What is still open of it.</summary>
    public async Task<IReadOnlyList<ToAcknowledge>> OpenAsync(PlanRecord stored, CancellationToken stop) =>
        [.. (await AllAsync(stored, SiteScope.All, stop)).Where(a => a.Given is null)];

    /// <summary>What would be open of it with the machines of a draft.</summary>
    internal async Task<IReadOnlyList<ToAcknowledge>> OpenAsync(Draft draft, CancellationToken stop) =>
        [
            .. (
                await AllAsync(draft.Plan, draft.Product, [.. draft.Members.Where(m => m.Exemption is null).Select(m => m.Machine)], stop)
            ).Where(a => a.Given is null),
        ];

    /// <summary>Acknowledges some of what has to be, or all of it.</summary>
    /// <exception cref="RefusedException">One of the names is none of what has to be acknowledged.</exception>
    public async Task AcknowledgeAsync(PlanRecord stored, IReadOnlyList<string>? names, string reason, Actor actor, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(actor);
        var all = await AllAsync(stored, SiteScope.All, stop);
        foreach (var unknown in (names ?? []).Where(n => all.All(o => o.Name != n)))
            throw RefusedException.Unknown(
                "unknown-acknowledgement",
                $"Plan '{stored.Name}' has nothing named '{unknown}' to acknowledge; it has "
                    + $"{string.Join(", ", all.Select(o => o.Name).DefaultIfEmpty("nothing"))}."
            );
        var now = clock.GetUtcNow();
        await decisions.AcknowledgeAsync(
            stored.Name,
            [
                .. all.Where(o => o.Given is null && (names is null || names.Contains(o.Name)))
                    .Select(o => new Acknowledgement(o.Kind, o.Name, reason, actor.Name, now, o.Covers)),
            ],
            actor,
            stop
        );
    }

    private async Task<IReadOnlyList<ToAcknowledge>> AllAsync(
        Plan plan,
        Product product,
        HashSet<MachineId> members,
        CancellationToken stop
    )
    {
        var aim = PlanSlots.AimOf(plan, product);
        var machines = await fleet.AllAsync(stop);
        var goingTo = members.CountBy(m => aim.ReleaseFor(machines[m])).ToDictionary();
        var reads = aim
            .Releases.SelectMany(to => to.MustReads.Select(r => Text("must-read", r.Name, r.Title, r.Words, goingTo.GetValueOrDefault(to))))
            .DistinctBy(r => r.Name);
        var terms = aim.Releases.SelectMany(to => to.Terms.Select(t => Terms(t, goingTo.GetValueOrDefault(to)))).DistinctBy(t => t.Name);
        var judged = await fleet.JudgedAsync(
            aim,
            plan.Name,
            clock.GetUtcNow(),
            (judgement, order) =>
            {
                var rows = order.Where(r => r < judgement.Rows && members.Contains(judgement.Fleet[r].Id)).ToArray();
                var cautions = judgement
                    .Checks.Where(c => c.Check.Need == Need.Should)
                    .Select(c =>
                        Text(
                            "caution",
                            c.Check.Name,
                            c.Check.Title,
                            c.Check.Fix.Words,
                            rows.Count(r => c[r] is CheckState.Unmet or CheckState.Unknown)
                        )
                    )
                    .Where(c => c.Machines > 0);
                var less = rows.Select(r => (Machine: judgement.Fleet[r].Id, Method: judgement.MethodOf(r)))
                    .Where(r => r.Method is { Way: Way.Upgrade, Preserves: not Preserves.Full })
                    .GroupBy(r => r.Method!, r => r.Machine)
                    .Select(g => Losing(g.Key, [.. g]));
                return cautions.Concat(less).ToArray();
            },
            stop
        );
        var given = (await decisions.AcknowledgedAsync(plan.Name, stop)).ToDictionary(a => (a.Kind, a.Name));
        return
        [
            .. reads
                .Concat(terms)
                .Concat(judged)
                .Select(a => given.GetValueOrDefault((a.Kind, a.Name)) is { } known && IsCovered(a, known) ? a with { Given = known } : a),
        ];
    }

    private static ToAcknowledge Text(string kind, string name, string title, string words, int machines) =>
        new(kind, name, title, words, machines, FileChange.Hash($"{title}\n{words}"), null);

    /// <summary>Licence terms; what is accepted is the text, by its SHA-256.</summary>
    private static ToAcknowledge Terms(LicenceTerms terms, int machines) =>
        new(Acknowledgement.LicenceTerms, terms.Name, $"Accept: {terms.Title}", terms.Text, machines, FileChange.Hash(terms.Text), null);

    private static ToAcknowledge Losing(Method method, MachineId[] machines) =>
        new(
            LosesData,
            method.Name,
            method.Preserves == Preserves.Data
                ? $"{method.Title} preserves people's data only: programs and settings are lost"
                : $"{method.Title} preserves nothing: programs, settings and data are lost",
            "Save elsewhere what is needed, or choose another method.",
            machines.Length,
            string.Join(' ', machines.Select(m => m.Value).Order().Select(m => $"m{m}").Prepend(method.Preserves.ToString())),
            null
        );

    /// <summary>
    /// Whether what was acknowledged is what is to be: the same text, or for a method that loses data the same loss on no further machine.
    /// </summary>
    private static bool IsCovered(ToAcknowledge wanted, Acknowledgement known) =>
        wanted.Kind == LosesData
            ? wanted.Covers.Split(' ').All(known.Covers.Split(' ').ToHashSet(StringComparer.Ordinal).Contains)
            : wanted.Covers == known.Covers;
}
