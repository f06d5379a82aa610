using GrandStair.Core.Readings;
using Xunit;

namespace GrandStair.Core.Tests.Readings;

public sealed class MachineSearchTests
{
    private static readonly Machine Desk = Fleets.With() with
    {
        Name = "desk-w-017",
        Site = "Westhaven",
        Group = "Tickets",
        Owner = "deck-it",
        Tags = ["pilot"],
        Identifiers = ["sn4711x"],
    };

    [Theory]
    [InlineData("desk-w", true)]
    [InlineData("W-017", true)]
    [InlineData("westh", true)]
    [InlineData("deck-it pilot", true)]
    [InlineData("SN4711", true)]
    [InlineData("desk-n", false)]
    [InlineData("desk-w Eastness", false)]
    public void A_machine_is_found_by_fragments_of_what_people_know_of_it(string text, bool found) =>
        Assert.Equal(found, MachineSearch.Of(text, KeyRegistry.BuiltIn)!.Finds(Desk));

    [Theory]
    [InlineData("site = \"Westhaven\"")]
    [InlineData("os.version")]
    [InlineData("owner is absent")]
    [InlineData("   ")]
    public void A_condition_or_the_begin_of_one_is_no_search(string text) => Assert.Null(MachineSearch.Of(text, KeyRegistry.BuiltIn));
}
