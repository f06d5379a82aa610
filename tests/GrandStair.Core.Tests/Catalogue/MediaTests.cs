using GrandStair.Core.Catalogue;
using GrandStair.Files;
using GrandStair.Files.Checksums;
using Xunit;

namespace GrandStair.Core.Tests.Catalogue;

/// <summary>Which file of media a machine gets, and which checksum a file should have.</summary>
public sealed class MediaTests
{
    private static readonly MediaVariant Old = new("old.img", new('1', 64), 1, Fleets.Parse("firmware.tpm < 2.0"));
    private static readonly MediaVariant Rest = new("rest.img", new('2', 64), 2, null);

    [Theory]
    [InlineData("1.2", "old.img")]
    [InlineData("2.0", "rest.img")]
    [InlineData("-", "rest.img")]
    public void A_machine_gets_the_first_variant_that_is_for_it(string tpm, string file)
    {
        var choice = new Media("image", "Image", [Old, Rest]).Choose(Fleets.With(("firmware.tpm", tpm)), Fleets.Now);
        Assert.Equal((file, ""), (choice.Variant?.File, choice.Why));
    }

    [Fact]
    public void A_variant_of_which_it_is_unknown_whether_it_fits_ends_the_choice()
    {
        var choice = new Media("image", "Image", [Old, Rest]).Choose(Fleets.With(("firmware.tpm", "?")), Fleets.Now);
        Assert.Null(choice.Variant);
        Assert.StartsWith("it is unknown whether old.img of media 'image' fits: firmware.tpm", choice.Why, StringComparison.Ordinal);
    }

    [Fact]
    public void A_machine_that_no_variant_is_for_gets_none()
    {
        var choice = new Media("image", "Image", [Old]).Choose(Fleets.With(("firmware.tpm", "2.0")), Fleets.Now);
        Assert.Equal((null, "no variant of media 'image' is for this machine"), (choice.Variant, choice.Why));
    }

    [Fact]
    public void A_checksum_list_is_read_as_sha256sum_writes_it()
    {
        var (a, b) = (new string('a', 64), new string('B', 64));
        var sums = ChecksumList.Parse($"# from the vendor\n{a}  one.img\r\n\n{b} *folder/two.img\n", "SHA256SUMS");
        Assert.Equal([("one.img", a), ("two.img", b.ToLowerInvariant())], sums.Select(s => (s.Key, s.Value)));
    }

    [Fact]
    public void Every_wrong_line_of_a_checksum_list_is_named()
    {
        var a = new string('a', 64);
        var error = Assert.Throws<FileException>(() => ChecksumList.Parse($"{a}  one.img\nabc  two.img\n{a}  one.img\n", "SHA256SUMS"));
        Assert.Equal([2, 3], error.Problems.Select(p => p.Line));
        Assert.Contains("expected 64 hexadecimal digits and a file name", error.Problems[0].Message, StringComparison.Ordinal);
        Assert.Contains("is listed twice", error.Problems[1].Message, StringComparison.Ordinal);
    }
}
