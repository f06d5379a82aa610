using GrandStair.Testing;
using GrandStair.Testing.Fuzzing;
using Xunit;

namespace GrandStair.Core.Tests.Parsing;

public sealed class ParserFuzzTests
{
    [Fact]
    public void Changed_texts_are_understood_or_refused_with_a_reason_and_in_a_bounded_time()
    {
        var fuzz = new ParserFuzz(seed: 20270111);
        var wrong = fuzz.Run(Seeds.Cases(3_000), TimeSpan.FromMinutes(5));
        Assert.True(wrong.Count == 0, string.Join("\n\n", wrong));
        Assert.All(fuzz.Counts, c =>
            Assert.True(
                c.Value.Understood > 0 && c.Value.Tried > c.Value.Understood,
                $"{c.Key}: {c.Value.Tried} tried, {c.Value.Understood} understood"
            )
        );
        Assert.Equal(9, fuzz.Counts.Count);
    }
}
