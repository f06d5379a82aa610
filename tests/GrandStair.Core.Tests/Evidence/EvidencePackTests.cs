using System.IO.Compression;
using System.Security.Cryptography;
using System.Text;
using GrandStair.Files.Evidence;
using Xunit;

namespace GrandStair.Core.Tests.Evidence;

public sealed class EvidencePackTests
{
    private static readonly EvidenceFile[] Files =
    [
        new("events.jsonl", "{\"at\": 1}\n{\"at\": 2}\n"),
        new("scripts/apply.sh", "apt-get full-upgrade\n"),
        new("report.html", "<p>caf\u00e9</p>"),
    ];

    [Fact]
    public void A_pack_is_as_it_was_signed_and_its_sums_are_those_of_other_tools()
    {
        using var key = ECDsa.Create(ECCurve.NamedCurves.nistP256);
        var verdict = EvidencePack.Verify(new MemoryStream(Pack(key)));
        Assert.Empty(verdict.Faults);
        Assert.Equal((5, Convert.ToHexStringLower(SHA256.HashData(key.ExportSubjectPublicKeyInfo()))), (verdict.Files, verdict.Key));
        using var archive = new ZipArchive(new MemoryStream(Pack(key)));
        using var sums = new StreamReader(archive.GetEntry("SHA256SUMS")!.Open());
        Assert.Contains(
            $"{Convert.ToHexStringLower(SHA256.HashData(Encoding.UTF8.GetBytes(Files[1].Content)))}  scripts/apply.sh\n",
            sums.ReadToEnd(),
            StringComparison.Ordinal
        );
    }

    [Fact]
    public void Every_single_changed_byte_is_found()
    {
        using var key = ECDsa.Create(ECCurve.NamedCurves.nistP256);
        var pack = Pack(key);
        for (var at = 0; at < pack.Length; at++)
        {
            var changed = pack.ToArray();
            changed[at] ^= 1;
            Assert.NotEmpty(EvidencePack.Verify(new MemoryStream(changed)).Faults);
        }
    }

    [Fact]
    public void A_pack_that_was_cut_short_added_to_or_signed_by_another_key_is_found()
    {
        using var key = ECDsa.Create(ECCurve.NamedCurves.nistP256);
        using var other = ECDsa.Create(ECCurve.NamedCurves.nistP256);
        var pack = Pack(key);
        Assert.All(new[] { 0, 1, 20, pack.Length / 2, pack.Length - 1 }, length =>
            Assert.NotEmpty(EvidencePack.Verify(new MemoryStream(pack[..length])).Faults)
        );
        Assert.NotEmpty(EvidencePack.Verify(new MemoryStream([.. pack, 10])).Faults);
        var foreign = new MemoryStream();
        EvidencePack.Write(foreign, Files, key.ExportSubjectPublicKeyInfoPem(), other.SignHash, Fleets.Now);
        Assert.Equal(["The pack is not as it was signed."], EvidencePack.Verify(foreign).Faults);
    }

    [Fact]
    public void A_changed_file_is_named()
    {
        using var key = ECDsa.Create(ECCurve.NamedCurves.nistP256);
        var zip = new MemoryStream();
        zip.Write(Pack(key));
        string? comment;
        using (var archive = new ZipArchive(zip, ZipArchiveMode.Update, leaveOpen: true))
        {
            comment = archive.Comment;
            archive.GetEntry("report.html")!.Delete();
            using var writer = new StreamWriter(archive.CreateEntry("scripts/more.sh").Open());
            writer.Write("true");
        }

        var faults = EvidencePack.Verify(zip).Faults;
        Assert.Contains("report.html is missing.", faults);
        Assert.Contains("scripts/more.sh is not listed in SHA256SUMS.", faults);
        Assert.Contains("The pack is not as it was signed.", faults);
        Assert.StartsWith("grandstair-evidence 1\n", comment, StringComparison.Ordinal);
    }

    private static byte[] Pack(ECDsa key)
    {
        using var pack = new MemoryStream();
        EvidencePack.Write(pack, Files, key.ExportSubjectPublicKeyInfoPem(), key.SignHash, Fleets.Now);
        return pack.ToArray();
    }
}
