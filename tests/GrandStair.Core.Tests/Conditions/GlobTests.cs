using CsCheck;
using GrandStair.Core.Conditions;
using Xunit;

namespace GrandStair.Core.Tests.Conditions;

public sealed class GlobTests
{
    private static readonly Gen<string> Texts = Gen.Char["abAB?*-"].Array[0, 80].Select(c => new string(c));

    [Fact]
    public void Both_ways_to_match_a_pattern_give_the_same_answer() =>
        Gen.Select(Texts, Texts)
            .Sample(
                (text, pattern) =>
                    Assert.True(Glob.FitsPlainly(text, pattern) == Glob.FitsByStates(text, pattern), $"'{text}' like '{pattern}'"),
                iter: 100_000,
                threads: 1
            );

    [Theory]
    [InlineData("", "", true)]
    [InlineData("", "*", true)]
    [InlineData("", "?", false)]
    [InlineData("Desk-W-017", "desk-?-*", true)]
    [InlineData("desk", "desk-*", false)]
    [InlineData("a*b", "a*b", true)]
    [InlineData("kiosk-\U0001F6A2-1", "kiosk-?-1", true)]
    [InlineData("kiosk-\U0001F6A2-1", "kiosk-??-1", false)]
    [InlineData("kiosk-\U0001F6A2-1", "*\U0001F6A2*", true)]
    public void Case_is_ignored_and_the_two_wildcards_stand_for_what_they_do(string text, string pattern, bool fits)
    {
        Assert.Equal(fits, Glob.FitsByStates(text, pattern));
        Assert.Equal(fits, Glob.Fits(text, pattern));
    }

    [Fact]
    public void A_long_pattern_fits_by_states_over_several_machine_words()
    {
        var text = string.Concat(Enumerable.Range(0, 200).Select(i => (char)('a' + (i % 26))));
        Assert.True(Glob.FitsByStates(text, text));
        Assert.True(Glob.FitsByStates(text, $"*{text[..150]}*"));
        Assert.False(Glob.FitsByStates(text, $"{text[..150]}!"));
    }
}
