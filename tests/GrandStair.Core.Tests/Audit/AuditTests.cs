using System.Security.Cryptography;
using CsCheck;
using GrandStair.Core.Audit;
using GrandStair.Core.Catalogue;
using GrandStair.Files;
using GrandStair.Files.Audit;
using Xunit;

namespace GrandStair.Core.Tests.Audit;

/// <summary>The chain of the audit: whatever is done to it is found; what is untouched is whole.</summary>
public sealed class AuditTests
{
    private static readonly DateTimeOffset Now = new(2027, 1, 11, 12, 0, 0, TimeSpan.Zero);

    [Fact]
    public void Whatever_is_done_to_an_audit_is_found() =>
        Gen.Select(Gen.Int[2, 30], Gen.Int[0, 5], Gen.Int[0, 1000], Gen.Int[0, 1000])
            .Sample(
                (count, how, at, with) =>
                {
                    var chain = Chain(count);
                    AuditSeal[] seals = [Seal(chain[count / 2]), Seal(chain[^1])];
                    Assert.Empty(Faults(chain, seals));
                    var (i, j) = (at % count, with % count);
                    var tampered = chain.ToList();
                    switch (how)
                    {
                        case 0:
                            tampered[i] = tampered[i] with { Entry = tampered[i].Entry with { Reason = tampered[i].Entry.Reason + "x" } };
                            break;
                        case 1:
                            tampered.RemoveAt(i);
                            break;
                        case 2:
                            tampered.Insert(i, tampered[j]);
                            break;
                        case 3:
                            if (i != j)
                                (tampered[i], tampered[j]) = (tampered[j], tampered[i]);
                            break;
                        case 4:
                            tampered[i] = tampered[i] with { Hash = tampered[j].Hash };
                            break;
                        default:
                            tampered =
                            [
                                .. Again([
                                    .. tampered.Select(e => e.Entry with { Actor = e.Entry.Number == i + 1 ? "somebody" : e.Entry.Actor }),
                                ]),
                            ];
                            break;
                    }

                    if (!tampered.SequenceEqual(chain))
                        Assert.NotEmpty(Faults(tampered, seals));
                }
            );

    [Fact]
    public void Two_fields_cannot_be_shifted_against_each_other()
    {
        var entry = Entry(1);
        Assert.NotEqual((entry with { Actor = "ab", From = "c" }).Seal("x"), (entry with { Actor = "a", From = "bc" }).Seal("x"));
        Assert.NotEqual((entry with { Before = null }).Seal("x"), (entry with { Before = "" }).Seal("x"));
        Assert.NotEqual((entry with { Before = "-" }).Seal("x"), (entry with { Before = null }).Seal("x"));
        Assert.NotEqual((entry with { Before = "a", After = null }).Seal("x"), (entry with { Before = null, After = "a" }).Seal("x"));
    }

    [Fact]
    public void An_export_is_checked_with_nothing_but_itself_and_what_one_knows()
    {
        using var key = ECDsa.Create(ECCurve.NamedCurves.nistP256);
        var id = Convert.ToHexStringLower(SHA256.HashData(key.ExportSubjectPublicKeyInfo()));
        var chain = Chain(12);
        AuditSeal Sign(SealedEntry e) =>
            new(
                e.Entry.Number,
                e.Hash!,
                id,
                Convert.ToBase64String(key.SignData(AuditSeal.Statement(e.Entry.Number, e.Hash!), HashAlgorithmName.SHA256))
            );
        string Export(IEnumerable<SealedEntry> entries) =>
            string.Join(
                '\n',
                [
                    AuditExport.KeyLine(key.ExportSubjectPublicKeyInfoPem()),
                    AuditExport.SealLine(Sign(chain[5])),
                    AuditExport.SealLine(Sign(chain[11])),
                    .. entries.Select(AuditExport.EntryLine),
                ]
            );
        AuditExportVerdict Verify(string text, (long, string)? known = null) =>
            AuditExport.Verify(new StringReader(text), "audit.jsonl", known is { } one ? [one] : null);

        var whole = Verify(Export(chain));
        Assert.Equal((12L, 2, chain[11].Hash, id, 0), (whole.Entries, whole.Seals, whole.Head, whole.Key, whole.Faults.Count));
        Assert.Equal(7, Assert.Single(Verify(Export(chain).Replace("plan hold 7", "plan look 7", StringComparison.Ordinal)).Faults).Number);
        Assert.Contains(Verify(Export(chain.Take(10))).Faults, f =>
            f.Number == 11 && f.What.Contains("the end is missing", StringComparison.Ordinal)
        );
        var again = Export(Again([.. chain.Select(e => e.Entry with { Reason = "calm" })]));
        Assert.Contains(Verify(again).Faults, f => f.What.Contains("sealed with another hash", StringComparison.Ordinal));
        Assert.Contains(Verify(Export(chain).Replace(Sign(chain[5]).Hash[..6], "000000", StringComparison.Ordinal)).Faults, f =>
            f.What.Contains("signature is wrong", StringComparison.Ordinal)
        );
        Assert.Empty(Verify(Export(chain), (3, chain[2].Hash!)).Faults);
        Assert.NotEmpty(Verify(Export(chain), (3, chain[3].Hash!)).Faults);
        Assert.NotEmpty(Verify(Export(chain), (13, chain[3].Hash!)).Faults);
        foreach (
            var (text, says) in new[]
            {
                ("", "holds no public key"),
                ("{}", "neither 'publicKey'"),
                ("x", "no JSON"),
                ("{\"publicKey\":\"x\"}", "cannot be read"),
                (AuditExport.EntryLine(chain[0]), "first line"),
            }
        )
            Assert.Contains(Assert.Throws<FileException>(() => Verify(text)).Problems, p =>
                p.Message.Contains(says, StringComparison.Ordinal)
            );
    }

    [Fact]
    public void What_is_different_in_a_product_s_files_is_told_line_by_line() =>
        Gen.Select(Gen.Int[0, 3].Array[0, 12], Gen.Int[0, 3].Array[0, 12])
            .Sample(
                (before, after) =>
                {
                    string Text(int[] lines) => string.Join('\n', lines.Select(l => $"line {l}"));
                    var changes = FileChange.Between(
                        new Dictionary<string, string>
                        {
                            ["read.sh"] = Text(before),
                            ["gone.sh"] = "x",
                            ["same.sh"] = "y",
                        },
                        new Dictionary<string, string>
                        {
                            ["read.sh"] = Text(after),
                            ["new.sh"] = "z",
                            ["same.sh"] = "y",
                        }
                    );
                    Assert.Equal(
                        Text(before) == Text(after) ? ["gone.sh", "new.sh"] : ["gone.sh", "new.sh", "read.sh"],
                        changes.Select(c => c.File)
                    );
                    Assert.Equal((null, null), (changes[0].After, changes[1].Before));
                    if (changes.Length < 3)
                        return;
                    // What went and came makes the one into the other, as to what is in it.
                    var lines = Text(before).Split('\n').Concat(changes[2].Lines.Where(l => l[0] == '+').Select(l => l[2..])).ToList();
                    foreach (var went in changes[2].Lines.Where(l => l[0] == '-'))
                        Assert.True(lines.Remove(went[2..]));
                    Assert.Equal(Text(after).Split('\n').Order(StringComparer.Ordinal), lines.Order(StringComparer.Ordinal));
                }
            );

    private static AuditEntry Entry(int number) =>
        new(
            number,
            Now.AddSeconds(number),
            "planner",
            "127.0.0.1 by token t1",
            $"plan hold {number}",
            "winter",
            number % 3 == 0 ? number : null,
            number % 2 == 0 ? "Started" : null,
            "held",
            "storm"
        );

    private static SealedEntry[] Chain(int count) => [.. Again([.. Enumerable.Range(1, count).Select(Entry)])];

    private static IEnumerable<SealedEntry> Again(AuditEntry[] entries)
    {
        var before = AuditEntry.Beginning;
        foreach (var entry in entries)
            yield return new(entry, before = entry.Seal(before));
    }

    private static AuditSeal Seal(SealedEntry e) => new(e.Entry.Number, e.Hash!, "key", "signed");

    private static IReadOnlyList<AuditFault> Faults(IEnumerable<SealedEntry> entries, AuditSeal[] seals)
    {
        var check = new AuditCheck(seals, seals.Contains);
        foreach (var entry in entries)
            check.Look(entry);
        return check.End();
    }
}
