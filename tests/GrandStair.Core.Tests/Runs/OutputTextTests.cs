using System.Text;
using CsCheck;
using GrandStair.Core.Runs;
using Xunit;

namespace GrandStair.Core.Tests.Runs;

/// <summary>What scripts print, in pieces and in lines.</summary>
public sealed class OutputTextTests
{
    [Theory]
    [InlineData("one\ntwo\nthr", false, false, 8)]
    [InlineData("one\ntwo\nthr", true, false, 11)]
    [InlineData("thr", false, false, 0)]
    [InlineData("thr", false, true, 3)]
    [InlineData("", true, false, 0)]
    public void A_piece_is_taken_up_to_its_last_whole_line(string piece, bool isLast, bool isFull, int taken) =>
        Assert.Equal(taken, OutputText.WholeLines(Encoding.UTF8.GetBytes(piece), isLast, isFull));

    [Fact]
    public void However_it_is_cut_the_pieces_together_are_what_was_printed() =>
        Gen.Char["ab\n"]
            .Array[0, 60]
            .Select(c => new string(c))
            .Select(Gen.Int[1, 20])
            .Sample(
                (printed, size) =>
                {
                    var bytes = Encoding.UTF8.GetBytes(printed);
                    var kept = new List<byte>();
                    while (kept.Count < bytes.Length)
                    {
                        var piece = bytes.AsSpan(kept.Count, Math.Min(size, bytes.Length - kept.Count));
                        var length = OutputText.WholeLines(piece, kept.Count + piece.Length == bytes.Length, piece.Length == size);
                        Assert.InRange(length, 1, piece.Length);
                        kept.AddRange(piece[..length]);
                    }

                    Assert.Equal(bytes, kept);
                }
            );

    [Fact]
    public void Lines_are_as_a_terminal_would_show_them_but_nothing_obeys_them()
    {
        Assert.Equal(["one", "", "two"], OutputText.Lines("one\r\n\ntwo\n"));
        Assert.Equal(["100 %", "end"], OutputText.Lines("10 %\r50 %\r100 %\nend"));
        Assert.Equal(["[31mred title"], OutputText.Lines("\u001b[31mred\ttitle\u202e\n"));
        Assert.Empty(OutputText.Lines(""));
    }
}
