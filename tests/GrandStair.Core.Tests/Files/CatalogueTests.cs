using GrandStair.Core.Readings;
using GrandStair.Files;
using GrandStair.Files.Catalogue;
using Xunit;

namespace GrandStair.Core.Tests.Files;

/// <summary>What is wrong in a product's file is told with its place and what was expected.</summary>
public sealed class CatalogueTests
{
    [Theory]
    [InlineData("brae-desktop", "zone: Europe/London", "zone: Europe/Lundon", "'Europe/Lundon' is no time zone")]
    [InlineData(
        "brae-server",
        "media: server, on: successor",
        "media: server, on: clone",
        "'clone' is no machine of a run; expected 'successor'"
    )]
    [InlineData(
        "brae-server",
        "kind: ask-person, who",
        "kind: ask-person, on: successor, who",
        "Step 'side-trial' asks a person, so it is done on no machine"
    )]
    [InlineData(
        "lantern-ticketing",
        "script: open.brae",
        "script: open.brae, on: successor",
        "Step 'close' suspends something on one machine, and 'open' resumes it on the other"
    )]
    [InlineData("brae-desktop", "build-key: os.build", "build-key: os.bild", "did you mean 'os.build'")]
    [InlineData("brae-desktop", "out: 2026-10-14\n    support", "out: October\n    support", "'out' is 'October'; expected a day such as")]
    [InlineData(
        "brae-desktop",
        "Bridge: 2032-10-12",
        "Brige: 2032-10-12",
        "names the edition 'Brige', which is not under 'editions'; did you mean 'Bridge'?"
    )]
    [InlineData(
        "brae-desktop",
        "version: 7.1.2, out",
        "version: 8.1.2, out",
        "Build '8.1.2' does not begin with its release's version '7'"
    )]
    [InlineData(
        "brae-desktop",
        "status: phased-in, out",
        "status: available, out",
        "Only a release with 'status: phased-in' is offered to some machines"
    )]
    [InlineData(
        "brae-desktop",
        "release: \"7\"\n    need: must",
        "release: \"9\"\n    need: must",
        "Known issue 'second-screen' is of release '9', which is not in this file"
    )]
    [InlineData(
        "brae-desktop",
        "touches: network.rate < 20 Mbit/s",
        "touches: network.rate < 20 GiB",
        "expected a number with one of the units"
    )]
    [InlineData(
        "brae-desktop",
        "brings: { firmware.mode: native }",
        "brings: { firmware.mod: native }",
        "There is no key 'firmware.mod'; did you mean 'firmware.mode'?"
    )]
    [InlineData("brae-desktop", "from: [\"6\"]", "from: [\"5\"]", "Hop '6-to-7' starts from '5', which is no release of this file")]
    [InlineData(
        "brae-desktop",
        "Counter: Workplace",
        "Counter: Workplaces",
        "maps the edition 'Workplaces', which is not under 'editions'"
    )]
    [InlineData("brae-desktop", "script: free-space.brae", "script: fre-space.brae", "did you mean 'free-space.brae'?")]
    [InlineData(
        "brae-desktop",
        "fix: { by: nobody,",
        "waivable: true\n        fix: { by: nobody,",
        "What cannot be fixed cannot be waived either"
    )]
    [InlineData(
        "brae-desktop",
        "need: should\n        wants: not driver",
        "need: should\n        waivable: true\n        wants: not driver",
        "A should is acknowledged, not waived"
    )]
    [InlineData(
        "brae-desktop",
        "waivable: true\n        fix: { by: script, script",
        "waivable: perhaps\n        fix: { by: script, script",
        "'waivable' is 'perhaps'; expected true or false"
    )]
    [InlineData("brae-desktop", "- name: memory", "- name: processor", "The check 'processor' is listed twice on hop '6-to-7'")]
    [InlineData("brae-desktop", "way: replace", "way: swap", "'way' is 'swap'; expected one of upgrade, replace, retire, stay")]
    [InlineData(
        "brae-desktop",
        "asked-at: [protected]",
        "asked-at: [start]",
        "Check 'protection' of hop '6-to-7' is asked at start, before step 'suspend-protection' (protect) of method 'update-channel' "
            + "provides disk.encryption. Ask it at protected or later."
    )]
    [InlineData(
        "brae-desktop",
        "provides: [image.staged]",
        "provides: [image.stagd]",
        "There is no key 'image.stagd'; did you mean 'image.staged'?"
    )]
    [InlineData("brae-desktop", "hops: [7-to-8]", "hops: [6-to-7]", "No method does hop '7-to-8'")]
    [InlineData("skerry-gateway", "component: system, title", "component: sistem, title", "")]
    [InlineData(
        "skerry-gateway",
        "components: { firmware: \"2.4\" }",
        "components: { firmwre: \"2.4\" }",
        "needs the component 'firmwre', which is not under 'components'; did you mean 'firmware'?"
    )]
    [InlineData(
        "skerry-gateway",
        "    component: firmware\n    from",
        "    component: firm\n    from",
        "raises the component 'firm', which is not under 'components'"
    )]
    [InlineData(
        "skerry-gateway",
        "kind: version, meaning: Version of the gateway",
        "kind: versoin, meaning: Version of the gateway",
        "'kind' is 'versoin'; expected one of text"
    )]
    public void A_wrong_catalogue_is_told_with_its_place(string product, string from, string to, string says)
    {
        var files = CatalogueFolder.Load(Path.Combine(House.Root, "catalogue", product));
        Assert.Contains(from, files["product.yaml"], StringComparison.Ordinal);
        var changed = files.SetItem("product.yaml", Replace(files["product.yaml"], from, to));
        if (says.Length == 0)
        {
            Assert.NotEqual(CatalogueFolder.Hash(files), CatalogueFolder.Parse(changed, KeyRegistry.BuiltIn).Hash);
            return;
        }

        var error = Assert.Throws<FileException>(() => CatalogueFolder.Parse(changed, KeyRegistry.BuiltIn));
        var problem = Assert.Single(error.Problems, p => p.Message.Contains(says, StringComparison.Ordinal));
        Assert.InRange(problem.Line, 1, changed["product.yaml"].Split('\n').Length);
        Assert.True(problem.Column > 0);
    }

    [Fact]
    public void A_key_that_is_a_table_names_its_columns_and_they_hold_one_value_each()
    {
        var files = CatalogueFolder.Load(Path.Combine(House.Root, "catalogue", "corrie-vault"));
        string With(string keys) => files["product.yaml"].Replace("keys:\n", "keys:\n" + keys, StringComparison.Ordinal);
        Assert.Contains(
            "is a table and names no columns",
            Wrong("  - { key: vault.copies, kind: table, meaning: x }\n"),
            StringComparison.Ordinal
        );
        Assert.Contains(
            "A column of a table holds one value",
            Wrong("  - { key: vault.copies, kind: table, meaning: x, columns: [{ column: a, kind: list, meaning: y }] }\n"),
            StringComparison.Ordinal
        );
        Assert.Contains("cannot also be a Text", Wrong("  - { key: os.version, kind: text, meaning: x }\n"), StringComparison.Ordinal);
        var good = CatalogueFolder.Parse(
            files.SetItem(
                "product.yaml",
                With("  - { key: vault.copies, kind: table, meaning: x, columns: [{ column: a, kind: number, meaning: y }] }\n")
            ),
            KeyRegistry.BuiltIn
        );
        Assert.Equal("a", good.Keys.Single(k => k.Name == "vault.copies").Columns.Single().Name);

        string Wrong(string keys) =>
            Assert
                .Throws<FileException>(() => CatalogueFolder.Parse(files.SetItem("product.yaml", With(keys)), KeyRegistry.BuiltIn))
                .Message;
    }

    private static string Replace(string text, string from, string to)
    {
        var at = text.IndexOf(from, StringComparison.Ordinal);
        return text[..at] + to + text[(at + from.Length)..];
    }
}
