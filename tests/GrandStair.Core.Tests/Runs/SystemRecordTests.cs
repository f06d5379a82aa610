using CsCheck;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Runs;
using Xunit;

namespace GrandStair.Core.Tests.Runs;

public sealed class SystemRecordTests
{
    private static readonly Gen<RecordEntry> Entries = Gen.Select(
        Fleets.Among("package", "service", "device", "file"),
        Gen.Int[1, 12],
        Gen.Int[0, 3],
        (kind, name, value) => new RecordEntry(kind, $"n {name}", value == 0 ? "" : $"{value}.0")
    );

    private static readonly Gen<SystemRecord> Records = Entries
        .Array[0, 30]
        .Select(e => new SystemRecord([.. e.DistinctBy(x => (x.Kind, x.Name))]));

    [Fact]
    public void A_record_is_read_as_it_was_written() =>
        Records.Sample(r => SystemRecord.Parse(r.Text).Entries.SequenceEqual(r.Entries), iter: 200);

    [Fact]
    public void Differences_are_exactly_what_leads_from_one_record_to_the_other() =>
        Gen.Select(Records, Records)
            .Sample(
                (before, after) =>
                {
                    var changed = before.Entries.ToDictionary(e => (e.Kind, e.Name), e => e.Value);
                    foreach (var d in before.DifferencesTo(after, []))
                    {
                        Assert.Equal(d.Before, changed.GetValueOrDefault((d.Kind, d.Name)));
                        Assert.Equal(DifferenceResult.FollowUp, d.Result);
                        if (d.Change == Change.Missing)
                            changed.Remove((d.Kind, d.Name));
                        else
                            changed[(d.Kind, d.Name)] = d.After!;
                    }

                    Assert.Equal(
                        after.Entries.Select(e => (e.Kind, e.Name, e.Value)).Order(),
                        changed.Select(c => (c.Key.Kind, c.Key.Name, c.Value)).Order()
                    );
                },
                iter: 200
            );

    [Theory]
    [InlineData("device", "label-printer", Change.Missing, DifferenceResult.Fail)]
    [InlineData("device", "card-reader", Change.Missing, DifferenceResult.FollowUp)]
    [InlineData("package", "kernel", Change.Changed, DifferenceResult.Ignore)]
    [InlineData("package", "toolbar", Change.Added, DifferenceResult.FollowUp)]
    public void The_first_rule_that_fits_says_what_a_difference_leads_to(string kind, string name, Change change, DifferenceResult leadsTo)
    {
        var before = SystemRecord.Parse("device\tlabel-printer\tready\ndevice\tcard-reader\tready\npackage\tkernel\t5.10\n");
        var after = SystemRecord.Parse("package\tkernel\t6.1\npackage\ttoolbar\n");
        ComparisonRule[] rules =
        [
            new("package", null, Change.Changed, DifferenceResult.Ignore),
            new("device", "label-*", null, DifferenceResult.Fail),
            new("device", null, Change.Missing, DifferenceResult.FollowUp),
        ];
        var difference = before.DifferencesTo(after, rules).Single(d => d.Kind == kind && d.Name == name);
        Assert.Equal((change, leadsTo), (difference.Change, difference.Result));
    }

    [Theory]
    [InlineData("no such list")]
    [InlineData("Big/kind\tname")]
    [InlineData("package\t \t1")]
    public void A_line_that_is_no_entry_is_refused_with_its_number(string line)
    {
        var error = Assert.Throws<FormatException>(() => SystemRecord.Parse($"package\tkernel\t5.10\n\n{line}\n"));
        Assert.StartsWith($"Line 3 of the record is '{line}'; expected a kind such as package", error.Message, StringComparison.Ordinal);
    }
}
