using System.Collections.Immutable;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Readings;
using GrandStair.Files;
using GrandStair.Files.Catalogue;
using GrandStair.Files.Fleet;
using GrandStair.Files.Plans;
using Xunit;

namespace GrandStair.Core.Tests.Files;

public sealed class FileTests
{
    private const string GoodPlan = """
        plan: winter
        target: { product: Brae Desktop, release: "7" }
        scope: os.version < 7
        methods: [image-in-place]
        waves:
          - { name: Pilot, members: tag = "pilot", count: 3 }
          - name: Rest
        windows:
          - { zone: Europe/London, weekly: ["Mon-Fri 19:00-05:00"] }
        limits: { all: 4, site: 2 }
        advance: { proved: 90 %, failures: 1, soak: 3 d }
        deadline: 2027-03-31
        """;

    private static readonly DateTimeOffset Now = Fleets.Now;

    [Fact]
    public void A_plan_is_read()
    {
        var plan = PlanFile.Parse(GoodPlan, KeyRegistry.BuiltIn, Shipped().GetValueOrDefault, "plan.yaml");
        Assert.Equal((2, 4, 2, 0.9, TimeSpan.FromDays(3)), (plan.Waves.Length, plan.Limits.All, plan.Limits.Site, plan.Advance.Proved, plan.Advance.Soak));
        Assert.Equal(new DateOnly(2027, 3, 31), plan.Deadline);
        Assert.Null(plan.Waves[1].Members);
    }

    [Theory]
    [InlineData("scope: os.version < 7", "scope: os.versoin < 7", "plan.yaml:3:8", "did you mean 'os.version'")]
    [InlineData("image-in-place", "image-in-plaec", "plan.yaml:4:10", "did you mean 'image-in-place'")]
    [InlineData("release: \"7\"", "release: \"9\"", "plan.yaml:2:", "expected one of 6, 7")]
    [InlineData("Mon-Fri 19:00", "Mon-Fri 19.00", "plan.yaml:9:", "no")]
    [InlineData("Europe/London", "Europe/Londn", "plan.yaml:9:", "is no time zone")]
    [InlineData("proved: 90 %", "proved: 190", "plan.yaml:11:", "a share such as 90 %")]
    [InlineData("soak: 3 d", "soka: 3 d", "plan.yaml:11:", "did you mean 'soak'")]
    [InlineData("plan: winter", "plan: Winter Crossing", "plan.yaml:1:7", "lower-case words")]
    [InlineData("waves:", "  waves:", "plan.yaml:", "YAML")]
    [InlineData("all: 4", "all: none", "plan.yaml:10:", "a whole number of at least 1")]
    public void A_wrong_plan_tells_line_column_and_what_was_expected(string right, string wrong, string where, string says)
    {
        var error = Assert.Throws<FileException>(() => PlanFile.Parse(GoodPlan.Replace(right, wrong, StringComparison.Ordinal), KeyRegistry.BuiltIn, Shipped().GetValueOrDefault, "plan.yaml"));
        Assert.Contains(error.Problems, p => p.ToString().StartsWith(where, StringComparison.Ordinal) && p.Message.Contains(says, StringComparison.Ordinal));
    }

    [Fact]
    public void All_that_is_wrong_is_told_at_once()
    {
        var error = Assert.Throws<FileException>(() => PlanFile.Parse("plan: BAD\nscope: nothing = 1\n", KeyRegistry.BuiltIn, null, "plan.yaml"));
        Assert.True(error.Problems.Count >= 6, error.Message);
    }

    [Fact]
    public void The_catalogue_that_ships_is_well_formed_and_complete()
    {
        foreach (var product in Shipped().Values)
        {
            Assert.NotEmpty(product.Releases);
            Assert.All(product.Methods, m => Assert.Single(m.Steps, s => s.TurningPoint));
            Assert.All(product.Hops, h => Assert.Contains(h.Checks, c => c.AskedAt.Contains(Moment.Proof) && c.Need == Need.Must));
            Assert.All(product.Readers.Select(r => r.Script).Concat(product.Methods.SelectMany(m => m.Steps.Concat(m.Rollback.Steps)).Select(s => s.Script).OfType<string>()), s => Assert.True(product.Scripts.ContainsKey(s)));
            // What a check looks at must be read by some reader, or the check could never be told.
            var covered = product.Readers.SelectMany(r => r.Covers).ToHashSet();
            Assert.All(product.Hops.SelectMany(h => h.Checks), c => Assert.Subset(covered, c.Wants.Keys.ToHashSet()));
        }
    }

    [Fact]
    public void The_same_files_have_the_same_hash_and_any_change_another()
    {
        var files = CatalogueFolder.Load(Path.Combine(House.Root, "catalogue", "debian"));
        Assert.Equal(CatalogueFolder.Hash(files), CatalogueFolder.Hash(files.ToImmutableSortedDictionary(StringComparer.Ordinal)));
        Assert.NotEqual(CatalogueFolder.Hash(files), CatalogueFolder.Hash(files.SetItem("tidy.sh", files["tidy.sh"] + "\n")));
    }

    [Theory]
    [InlineData("script: clean.brae", "script: claen.brae", "did you mean 'clean.brae'")]
    [InlineData("turning-point: true", "turning-point: false", "must have one step with 'turning-point: true'")]
    [InlineData("hops: [6-to-7]", "hops: [5-to-6]", "does hop '5-to-6', which is not in this file")]
    [InlineData("by: nobody", "by: noone", "expected one of person, script, vendor, nobody")]
    [InlineData("wants: hardware.memory >= 8 GiB", "wants: hardware.memory >= 8", "expected a number with one of the units")]
    [InlineData("kind: flag, meaning: Whether the licence", "kind: flagg, meaning: Whether the licence", "expected one of text, flag")]
    public void A_wrong_catalogue_tells_what_is_wrong(string right, string wrong, string says)
    {
        var files = CatalogueFolder.Load(Path.Combine(House.Root, "catalogue", "brae-desktop"));
        var broken = files.SetItem("product.yaml", files["product.yaml"].Replace(right, wrong, StringComparison.Ordinal));
        var error = Assert.Throws<FileException>(() => CatalogueFolder.Parse(broken, KeyRegistry.BuiltIn));
        Assert.Contains(error.Problems, p => p.Message.Contains(says, StringComparison.Ordinal) && p.Line > 1);
    }

    [Fact]
    public void A_fleet_file_is_read_and_broken_lines_are_told_while_the_rest_goes_on()
    {
        const string csv = """
            name,site,tags,link,address,port,host key,os.version,disk.system.free,seen
            desk-1,Westhaven,a b,ssh,10.0.0.1,,ssh-ed25519 AAAA,6.4,41 GiB,2027-01-11T08:00:00Z
            desk-2,Westhaven
            desk-3,"Quay, north",,stand-in,,,,,?,2027-01-11T08:00:00Z
            desk-4,Westhaven,,ssh,10.0.0.4,99999,,6.4,1 GiB,2027-01-11T08:00:00Z
            desk-5,Westhaven,,stand-in,,,,six,41,2027-01-11T08:00:00Z
            ,Westhaven,,stand-in,,,,6,1 GiB,2027-01-11T08:00:00Z
            DESK-1,Eastness,,stand-in,,,,6,1 GiB,2027-01-11T08:00:00Z
            desk-6,Westhaven,,stand-in,,,,6,1 GiB,yesterday
            """;
        var file = Read(csv);
        Assert.Equal(["desk-1", "desk-3", "desk-5"], file.Machines.Select(m => m.Name));
        Assert.Equal([3, 5, 6, 6, 7, 8, 9], file.Problems.Select(p => p.Line));
        Assert.Equal("Quay, north", file.Machines[1].Site);
        Assert.Equal(ReadingState.Unreadable, Assert.Single(file.Machines[1].Readings).State);
        Assert.Equal(["a", "b"], file.Machines[0].Tags!.Value);
        Assert.Contains("stands in line 2 already", file.Problems[5].Message, StringComparison.Ordinal);
        Assert.Equal(["os.version", "disk.system.free"], file.Covered);
    }

    [Theory]
    [InlineData("name,os.versoin\na,6", "did you mean 'os.version'")]
    [InlineData("site\na", "no column 'name'")]
    [InlineData("name,os.version\na,6", "does not say when its readings were seen")]
    [InlineData("name,site,site\na,b,c", "stands there twice")]
    [InlineData("", "empty")]
    public void A_fleet_file_with_a_wrong_header_is_refused_whole(string csv, string says) =>
        Assert.Contains(says, Assert.Throws<FileException>(() => Read(csv)).Message, StringComparison.Ordinal);

    private static FleetFile Read(string csv) => FleetCsv.Read(new StringReader(csv), "fleet.csv", "import", KeyRegistry.BuiltIn, Now, null);

    private static Dictionary<string, Product> Shipped() => Directory.GetDirectories(Path.Combine(House.Root, "catalogue"))
        .Select(folder => CatalogueFolder.Parse(CatalogueFolder.Load(folder), KeyRegistry.BuiltIn)).ToDictionary(p => p.Name);
}
