using CsCheck;
using GrandStair.Core.Readings;
using GrandStair.Core.Waves;
using GrandStair.Testing;
using Xunit;

namespace GrandStair.Core.Tests.Waves;

public sealed class CoverTests
{
    [Fact]
    public void A_cover_has_everything_that_occurs_and_nobody_in_it_can_be_spared() =>
        Candidates.Sample(
            candidates =>
            {
                var chosen = Cover.Choose(candidates, new int[candidates.Length]);
                var all = candidates.SelectMany(c => c).ToHashSet();
                Assert.Equal(all.Count, chosen.SelectMany(i => candidates[i]).Distinct().Count());
                Assert.All(chosen, spared =>
                    Assert.True(chosen.Where(i => i != spared).SelectMany(i => candidates[i]).Distinct().Count() < all.Count)
                );
                Assert.Equal(chosen, Cover.Choose(candidates, new int[candidates.Length]));
            },
            iter: Seeds.Cases(25)
        );

    [Fact]
    public void A_cover_is_as_small_as_the_smallest_of_all_where_all_can_be_tried() =>
        Gen.Int[0, 7]
            .Array[1, 5]
            .Array[1, 11]
            .Sample(
                candidates =>
                {
                    var all = candidates.SelectMany(c => c).ToHashSet();
                    var smallest = Enumerable
                        .Range(1, (1 << candidates.Length) - 1)
                        .Where(some =>
                            all.SetEquals(
                                Enumerable.Range(0, candidates.Length).Where(i => (some & (1 << i)) != 0).SelectMany(i => candidates[i])
                            )
                        )
                        .Min(some => System.Numerics.BitOperations.PopCount((uint)some));
                    Assert.Equal(smallest, Cover.Choose(candidates, new int[candidates.Length]).Length);
                },
                iter: Seeds.Cases(25)
            );

    [Fact]
    public void Of_covers_of_one_size_the_most_welcome_is_taken() =>
        Assert.Equal(
            [1, 3],
            Cover.Choose(
                [
                    [0, 1],
                    [0, 1],
                    [2],
                    [2, 1],
                    [2],
                ],
                [2, 0, 2, 0, 1]
            )
        );

    [Fact]
    public void A_pilot_covers_models_sites_and_applications_with_volunteers_where_it_can_and_tells_what_it_cannot()
    {
        Machine[] fleet =
        [
            At("a", "Westhaven", "Tern 3", "Ledger"),
            At("b", "Westhaven", "Tern 3", "Ledger", "volunteer"),
            At("c", "Eastness", "Tern 4", "Ledger"),
            At("d", "Eastness", "Tern 4", "Tide Table"),
            At("e", "Linsay", "Gull 1", "Ledger"),
            At("f", "Corran", "?", "Ledger"),
        ];
        var plan = PlanOf(
            new WaveSpec("Pilot", null, null) { Cover = new(["hardware.model", "site", "apps"], Fleets.Parse("tag = volunteer")) },
            new("Rest", null, null)
        );
        var membership = Membership.Of(plan, fleet, Fleets.Now, m => new(m.Name != "e", true));
        Assert.Equal("b d f", string.Join(' ', membership.Waves[0].Select(m => m.Name)));
        Assert.Equal("a c e", string.Join(' ', membership.Waves[1].Select(m => m.Name)));
        var coverage = membership.Coverages.Single();
        Assert.Equal((9, 7, 1), (coverage.Values, coverage.Covered, coverage.Unknown["hardware.model"]));
        Assert.Equal(
            ["hardware.model Gull 1: no machine with it is ready to go", "site Linsay: no machine with it is ready to go"],
            coverage.Uncovered.Select(u => $"{u.Key} {u.Value}: {u.Why}")
        );
    }

    [Fact]
    public void A_wave_takes_those_that_are_listed_or_a_share_and_a_machine_that_comes_later_moves_nobody()
    {
        var plan = PlanOf(
            new WaveSpec("Listed", null, null) { Machines = ["M7", "m3", "nobody"] },
            new("Sample", null, null) { Sample = 0.25 },
            new("Rest", null, null)
        );
        Machine[] fleet = [.. Enumerable.Range(1, 42).Select(i => At($"m{i}", "Westhaven", "Tern 3", "Ledger") with { Id = new(i) })];
        var membership = Membership.Of(plan, fleet, Fleets.Now, _ => new(true, true));
        Assert.Equal("m3 m7", string.Join(' ', membership.Waves[0].Select(m => m.Name)));
        Assert.Equal(["nobody"], membership.Missing);
        Assert.Equal(10, membership.Waves[1].Length);
        var grown = Membership.Of(plan, [.. fleet, At("m43", "Westhaven", "Tern 3", "Ledger") with { Id = new(43) }], Fleets.Now, _ =>
            new(true, true)
        );
        Assert.True(membership.Waves[1].Intersect(grown.Waves[1]).Count() >= 9);
    }

    private static readonly Gen<int[][]> Candidates = Gen.Int[0, 60].Array[1, 8].Array[1, 80];

    private static Plan PlanOf(params WaveSpec[] waves) =>
        new()
        {
            Name = "winter",
            Product = "Brae Desktop",
            Release = "7",
            Scope = Fleets.Parse("name is known"),
            Methods = ["image"],
            Waves = [.. waves],
            Windows = [],
            Limits = new(3, 2),
            Advance = new(0.9, 1, TimeSpan.Zero),
        };

    private static Machine At(string name, string site, string model, string app, string tag = "plain") =>
        Fleets.With(("hardware.model", model), ("apps", $"[{{\"name\":\"{app}\",\"version\":\"1\"}}]")) with
        {
            Name = name,
            Site = site,
            Tags = [tag],
            Id = new(name[0]),
        };
}
