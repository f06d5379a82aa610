using CsCheck;
using GrandStair.Core.Readings;
using Xunit;

namespace GrandStair.Core.Tests.Readings;

public sealed class ReadingTests
{
    private static readonly DateTimeOffset Now = new(2027, 1, 11, 12, 0, 0, TimeSpan.Zero);

    [Theory]
    [InlineData(ValueKind.Size, "64 GiB", 68719476736)]
    [InlineData(ValueKind.Size, "64 GB", 64000000000)]
    [InlineData(ValueKind.Size, "0", 0)]
    [InlineData(ValueKind.Duration, "1.5 h", 5400)]
    [InlineData(ValueKind.Rate, "40 Mbit/s", 40000000)]
    [InlineData(ValueKind.Flag, "on", 1)]
    [InlineData(ValueKind.Date, "1970-01-02", 86400)]
    [InlineData(ValueKind.Instant, "1970-01-01T01:00:00+01:00", 0)]
    public void A_value_is_read_in_its_unit(ValueKind kind, string text, double amount)
    {
        var value = ReadingValue.Parse(kind, text, out var error);
        Assert.Null(error);
        Assert.Equal(amount, value!.Amount);
    }

    [Theory]
    [InlineData(ValueKind.Size, "64", "GiB")]
    [InlineData(ValueKind.Size, "64 gigs", "GiB")]
    [InlineData(ValueKind.Size, "12 h", "GiB")]
    [InlineData(ValueKind.Flag, "maybe", "yes or no")]
    [InlineData(ValueKind.Version, "latest", "a version with a digit")]
    [InlineData(ValueKind.Instant, "2027-01-11T12:00:00", "with its zone")]
    [InlineData(ValueKind.Date, "11.1.2027", "2027-03-31")]
    public void What_does_not_fit_is_refused_with_what_was_expected(ValueKind kind, string text, string expected)
    {
        Assert.Null(ReadingValue.Parse(kind, text, out var error));
        Assert.Contains(expected, error, StringComparison.Ordinal);
    }

    [Fact]
    public void What_a_value_writes_it_reads_back() =>
        Gen.Select(Fleets.Among(ValueKind.Size, ValueKind.Duration, ValueKind.Rate), Gen.Double[0, 1e15])
            .Sample(
                (kind, amount) =>
                {
                    // A length of time is a century at most.
                    if (kind == ValueKind.Duration)
                        amount /= 1e6;
                    var value = ReadingValue.Parse(kind, Units.Exact(Math.Round(amount, 3), kind), out _)!;
                    return value.Equals(ReadingValue.Parse(kind, value.Text, out _));
                }
            );

    [Fact]
    public void A_length_of_time_is_a_century_at_most()
    {
        Assert.NotNull(ReadingValue.Parse(ValueKind.Duration, "36525 d", out _));
        Assert.Null(ReadingValue.Parse(ValueKind.Duration, "36526 d", out _));
        Assert.Null(ReadingValue.Parse(ValueKind.Duration, "1e308 s", out _));
    }

    [Fact]
    public void A_time_in_the_future_is_set_back_and_flagged()
    {
        var reading = Reading.Absent("os.version", Now.AddHours(2), Now, "clock-wrong");
        Assert.Equal(Now, reading.Seen);
        Assert.True(reading.Clamped);
        Assert.False(Reading.Absent("os.version", Now, Now, "clock-right").Clamped);
    }

    [Fact]
    public void The_newest_seen_counts_and_a_differing_older_one_stays_visible()
    {
        var machine = Fleets.Machine(
            "desk-1",
            [Read("os.version", "6.4", Now.AddDays(-2), "inventory"), Read("os.version", "6.5", Now.AddHours(-1), "ssh")]
        );
        Assert.Equal("6.5", machine.TextOf("os.version"));
        var other = Assert.Single(machine.Conflicts);
        Assert.Equal(("inventory", "6.4"), (other.Source, other.Value!.Text));
    }

    [Fact]
    public void Sources_that_say_the_same_do_not_conflict() =>
        Assert.Empty(
            Fleets
                .Machine("desk-1", [Read("os.version", "7", Now.AddDays(-2), "inventory"), Read("os.version", "7.0", Now, "ssh")])
                .Conflicts
        );

    [Fact]
    public void Covered_but_not_reported_is_absent()
    {
        var report = new SourceReport("ssh", ["os.version", "os.edition"], [Read("os.version", "6.4", Now, "ssh")]);
        var edition = Assert.Single(report.Complete(Now, Now), r => r.Key == "os.edition");
        Assert.Equal(ReadingState.Absent, edition.State);
    }

    [Fact]
    public void A_reading_script_s_lines_become_readings_and_the_rest_is_told()
    {
        const string output =
            "os.version = 11.11\nos.edition is absent\npower.mains is unreadable: no such device\ndisk.system.free = lots\nsome "
            + "warning\nno.such.key = 1\n\u001b[31mos.build = 11\u001b[0m";
        var readings = ReadingLines.Parse(output, KeyRegistry.BuiltIn, "ssh", Now, out var refused).ToDictionary(r => r.Key);
        Assert.Equal("11.11", readings["os.version"].Value!.Text);
        Assert.Equal(ReadingState.Absent, readings["os.edition"].State);
        Assert.Equal("no such device", readings["power.mains"].Why);
        Assert.Contains("the machine said 'lots'", readings["disk.system.free"].Why, StringComparison.Ordinal);
        Assert.Equal(3, refused.Length);
        Assert.DoesNotContain(refused, line => line.Any(char.IsControl));
    }

    [Fact]
    public void A_key_cannot_have_two_kinds()
    {
        var error = Assert.Throws<ArgumentException>(() => KeyRegistry.BuiltIn.With([new("os.version", ValueKind.Text, "")]));
        Assert.Contains("cannot also be", error.Message, StringComparison.Ordinal);
        Assert.Throws<ArgumentException>(() => KeyRegistry.BuiltIn.With([new("Bad Key", ValueKind.Text, "")]));
    }

    private static Reading Read(string key, string text, DateTimeOffset seen, string source) =>
        Reading.Of(key, ReadingValue.Parse(KeyRegistry.BuiltIn.Find(key)!.Kind, text, out _)!, seen, Now, source);
}
