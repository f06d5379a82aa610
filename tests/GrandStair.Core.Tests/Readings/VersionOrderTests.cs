using CsCheck;
using GrandStair.Core.Readings;
using Xunit;

namespace GrandStair.Core.Tests.Readings;

public sealed class VersionOrderTests
{
    private static readonly Gen<string> Versions = Gen.OneOf(
        Gen.Int[0, 120].Array[1, 4].Select(parts => string.Join('.', parts)),
        Gen.Select(Gen.Int[0, 20], Fleets.Among("", "rc1", "a", "~rc1", "+deb12u3", "-1"), (n, tail) => $"{n}{tail}")
    );

    [Theory]
    [InlineData("2.10", "2.9")]
    [InlineData("10", "9.9.9")]
    [InlineData("7.0.1", "7")]
    [InlineData("7", "7~rc1")]
    [InlineData("1.2b", "1.2a")]
    public void A_later_version_is_greater(string later, string earlier)
    {
        Assert.True(VersionOrder.Instance.Compare(later, earlier) > 0);
        Assert.True(VersionOrder.Instance.Compare(earlier, later) < 0);
    }

    [Theory]
    [InlineData("7", "7.0")]
    [InlineData("6.4", "6.04")]
    [InlineData("1-2", "1.2")]
    public void Versions_that_say_the_same_are_equal(string one, string other) =>
        Assert.Equal(0, VersionOrder.Instance.Compare(one, other));

    [Fact]
    public void The_order_is_antisymmetric() =>
        Gen.Select(Versions, Versions)
            .Sample((a, b) => Math.Sign(VersionOrder.Instance.Compare(a, b)) == -Math.Sign(VersionOrder.Instance.Compare(b, a)));

    [Fact]
    public void The_order_is_transitive() =>
        Gen.Select(Versions, Versions, Versions)
            .Sample(
                (a, b, c) =>
                    VersionOrder.Instance.Compare(a, b) > 0
                    || VersionOrder.Instance.Compare(b, c) > 0
                    || VersionOrder.Instance.Compare(a, c) <= 0
            );
}
