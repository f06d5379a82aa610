using System.Collections.Immutable;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Readings;
using GrandStair.Core.Waves;
using GrandStair.Files;
using GrandStair.Files.Catalogue;
using GrandStair.Files.Fleet;
using GrandStair.Files.Plans;
using GrandStair.Files.Sources;
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
        advance: { verified: 90 %, failures: 1, soak: 3 d }
        deadline: 2027-03-31
        """;

    private static readonly DateTimeOffset Now = Fleets.Now;

    [Fact]
    public void A_plan_is_read()
    {
        var plan = PlanFile.Parse(GoodPlan, KeyRegistry.BuiltIn, Shipped().GetValueOrDefault, "plan.yaml");
        Assert.Equal(
            (2, 4, 2, 0.9, TimeSpan.FromDays(3)),
            (plan.Waves.Length, plan.Limits.All, plan.Limits.Site, plan.Advance.Verified, plan.Advance.Soak)
        );
        Assert.Equal(new DateOnly(2027, 3, 31), plan.Deadline);
        Assert.Null(plan.Waves[1].Members);
    }

    [Fact]
    public void A_plan_with_everything_is_read_and_says_which_calendars_it_needs()
    {
        var folder = AppContext.BaseDirectory;
        while (!File.Exists(Path.Combine(folder, "GrandStair.slnx")))
            folder = Path.GetDirectoryName(folder)!;
        var plan = PlanFile.Parse(
            File.ReadAllText(Path.Combine(folder, "docs", "examples", "plan.yaml")),
            KeyRegistry.BuiltIn,
            Shipped().GetValueOrDefault,
            "plan.yaml"
        );
        Assert.Equal(["kittiwake-berths"], plan.Calendars);
        Assert.Equal((5, 4, 2, "NF-2041"), (plan.Waves.Length, plan.Windows.Length, plan.Freezes.Length, plan.ChangeRecord));
        Assert.Equal(["hardware.model", "os.edition", "site", "apps"], plan.Waves[0].Cover!.Keys);
        Assert.Equal((0.1, true, PatchTime.During), (plan.Waves[2].Sample, plan.Waves[4].NeedsApproval, plan.Patches));
        // 30 % of 12 Mbit/s are 27 MB a minute.
        Assert.Equal(27e6, plan.Uplinks.Single().BytesPerMinute, 1.0);
        Assert.Equal(
            ("shore-party", "terminal-it", 2, 3),
            (plan.Crews.Single().Name, plan.Crews.Single().Kind, plan.Crews.Single().Hands, plan.Crews.Single().PerDay)
        );
        Assert.Equal([("group training", "8"), ("desk-w-003", "7")], plan.But.Select(b => (b.For.ToString(), b.Release)));
        Assert.Equal(new(TimeSpan.FromDays(10), TimeSpan.FromHours(24)), plan.Owners);
        Assert.Equal((true, "change-board", true), (plan.Approval.Needed, plan.Approval.By.Single(), plan.Approval.OfCalendars));
        Assert.Equal(
            (new DateTimeOffset(2027, 2, 8, 18, 0, 0, TimeSpan.Zero), null, 3),
            (plan.Waves[2].NotBefore, plan.Waves[1].NotBefore, plan.CatchUp)
        );
    }

    [Theory]
    [InlineData("2027-02-08", "2027-02-08T00:00:00Z")]
    [InlineData("2027-02-08 18:30", "2027-02-08T18:30:00Z")]
    [InlineData("2027-02-08T18:30Z", "2027-02-08T18:30:00Z")]
    [InlineData("2027-07-08T18:30+01:00", "2027-07-08T17:30:00Z")]
    public void A_wave_begins_not_before_a_day_or_a_moment(string written, string meant)
    {
        var plan = PlanFile.Parse(
            GoodPlan.Replace("- name: Rest", $"- {{ name: Rest, not-before: {written} }}", StringComparison.Ordinal),
            KeyRegistry.BuiltIn,
            null,
            "plan.yaml"
        );
        Assert.Equal(DateTimeOffset.Parse(meant, System.Globalization.CultureInfo.InvariantCulture), plan.Waves[1].NotBefore);
    }

    [Theory]
    [InlineData("scope: os.version < 7", "scope: os.versoin < 7", "plan.yaml:3:8", "did you mean 'os.version'")]
    [InlineData("image-in-place", "image-in-plaec", "plan.yaml:4:10", "did you mean 'image-in-place'")]
    [InlineData(
        "release: \"7\"",
        "release: \"7\", build: 7.1.3",
        "plan.yaml:2:",
        "has no build '7.1.3'; expected one of 7.1.0, 7.1.2, 7.1.4"
    )]
    [InlineData("release: \"7\"", "release: \"9\"", "plan.yaml:2:", "expected one of 6, 7")]
    [InlineData(
        "release: \"7\"",
        "release: \"7\", but: [{ groups: [office], release: \"9\" }]",
        "plan.yaml:2:",
        "has no release '9'; expected one of 6, 7"
    )]
    [InlineData("release: \"7\"", "release: \"7\", but: [{ release: \"6\" }]", "plan.yaml:2:", "It says not who goes to that release")]
    [InlineData("deadline: 2027-03-31", "owners: { notice: 2 h }", "plan.yaml:12:", "expected a duration such as 10 d")]
    [InlineData("Mon-Fri 19:00", "Mon-Fri 19.00", "plan.yaml:9:", "no")]
    [InlineData("Europe/London", "Europe/Londn", "plan.yaml:9:", "is no time zone")]
    [InlineData("verified: 90 %", "verified: 190", "plan.yaml:11:", "a share such as 90 %")]
    [InlineData("soak: 3 d", "soka: 3 d", "plan.yaml:11:", "did you mean 'soak'")]
    [InlineData("plan: winter", "plan: Winter Crossing", "plan.yaml:1:7", "lower-case words")]
    [InlineData("waves:", "  waves:", "plan.yaml:", "YAML")]
    [InlineData("all: 4", "all: none", "plan.yaml:10:", "a whole number of at least 1")]
    [InlineData(
        "deadline: 2027-03-31",
        "freezes: [{ zone: Europe/London, days: [2027-02-30], why: x }]",
        "plan.yaml:12:",
        "is no day; expected one such as 2026-12-24"
    )]
    [InlineData(
        "deadline: 2027-03-31",
        "freezes: [{ zone: Europe/London, why: x }]",
        "plan.yaml:12:",
        "expected 'weekly', 'days' or 'calendar'"
    )]
    [InlineData("deadline: 2027-03-31", "uplinks: [{ sites: [Westhaven], rate: 12 MB }]", "plan.yaml:12:", "'rate' is '12 MB'")]
    [InlineData(
        "deadline: 2027-03-31",
        "uplinks: [{ sites: [Westhaven], rate: 1 Mbit/s }, { sites: [westhaven], rate: 2 Mbit/s }]",
        "plan.yaml:12:",
        "'Westhaven' has two uplinks"
    )]
    [InlineData("methods: [image-in-place]", "methods: [carried-media]", "plan.yaml:4:", "needs the hands of a crew 'terminal-it'")]
    [InlineData("count: 3", "cover: { keys: [sitte] }", "plan.yaml:6:", "did you mean 'site'?")]
    [InlineData("count: 3", "count: 3, cover: { keys: [site] }", "plan.yaml:6:", "a 'cover' has no 'count'")]
    [InlineData("- name: Rest", "- name: pilot", "plan.yaml:6:", "Two waves are named 'Pilot'")]
    [InlineData("count: 3", "not-before: Monday", "plan.yaml:6:", "such as 2027-02-08, 2027-02-08 20:00 (UTC)")]
    [InlineData("deadline: 2027-03-31", "patches: sometimes", "plan.yaml:12:", "expected one of during, after")]
    [InlineData(
        "methods: [image-in-place]",
        "patches: during\nmethods: [keep-data]",
        "plan.yaml:4:",
        "Method 'keep-data' does not let a plan choose"
    )]
    [InlineData("deadline: 2027-03-31", "catch-up: some", "plan.yaml:12:", "a whole number of at least 0")]
    public void A_wrong_plan_tells_line_column_and_what_was_expected(string right, string wrong, string where, string says)
    {
        var error = Assert.Throws<FileException>(() =>
            PlanFile.Parse(
                GoodPlan.Replace(right, wrong, StringComparison.Ordinal),
                KeyRegistry.BuiltIn,
                Shipped().GetValueOrDefault,
                "plan.yaml"
            )
        );
        Assert.Contains(error.Problems, p =>
            p.ToString().StartsWith(where, StringComparison.Ordinal) && p.Message.Contains(says, StringComparison.Ordinal)
        );
    }

    [Fact]
    public void All_that_is_wrong_is_told_at_once()
    {
        var error = Assert.Throws<FileException>(() =>
            PlanFile.Parse("plan: BAD\nscope: nothing = 1\n", KeyRegistry.BuiltIn, null, "plan.yaml")
        );
        Assert.True(error.Problems.Count >= 6, error.Message);
    }

    [Fact]
    public void The_catalogue_that_ships_is_well_formed_and_complete()
    {
        foreach (var product in Shipped().Values)
        {
            Assert.NotEmpty(product.Releases);
            Assert.All(product.Methods.Where(m => m.Way == Way.Upgrade), m => Assert.Single(m.Steps, s => s.PointOfNoReturn));
            Assert.All(product.Hops, h => Assert.Contains(h.Checks, c => c.AskedAt.Contains(Moment.Verification) && c.Need == Need.Must));
            Assert.All(
                product
                    .Readers.Select(r => r.Script)
                    .Concat(product.Methods.SelectMany(m => m.Steps.Concat(m.Rollback.Steps)).Select(s => s.Script).OfType<string>()),
                s => Assert.True(product.Scripts.ContainsKey(s))
            );
            // What a check looks at must be read by some reader, or the check could never be told.
            var covered = product.Readers.SelectMany(r => r.Covers).Append("dependents").ToHashSet();
            Assert.All(product.Hops.SelectMany(h => h.Checks), c => Assert.Subset(covered, c.Wants.Keys.ToHashSet()));
            Assert.All(product.Hops.SelectMany(h => h.Checks).Select(c => c.Fix.Script).OfType<string>(), s =>
                Assert.True(product.Scripts.ContainsKey(s))
            );
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
    [InlineData("script: take-offer.brae", "script: take-ofer.brae", "did you mean 'take-offer.brae'")]
    [InlineData("media: desktop-7, typical", "media: desktop-9, typical", "fetches 'desktop-9', which is not under 'media'")]
    [InlineData(
        "phase: stage, kind: fetch-media",
        "phase: protect, kind: fetch-media",
        "(fetch-media) only prepares, so it belongs to stage"
    )]
    [InlineData("phase: protect, kind: save-files", "phase: stage, kind: clean-up", "cleans up after media was fetched")]
    [InlineData("files: [/etc/ticket-desk.conf", "files: [etc/ticket-desk.conf", "is no path to save; expected an absolute one")]
    [InlineData(
        "kind: restore-files, with: afresh-save",
        "kind: restore-files, with: afresh",
        "no save-files step of that name comes before"
    )]
    [InlineData("sha256: 7196", "sha256: x196", "is no SHA-256; expected the 64 hexadecimal digits")]
    [InlineData("size: 2867 MiB", "size: 2867", "expected a number with one of the units")]
    [InlineData("        for: os.edition = \"Bridge\"\n", "", "is never chosen: the variant before it has no 'for'")]
    [InlineData("file: brae-desktop-8.0.1.img", "file: brae-desktop-7.1.4.img", "has different checksums or sizes")]
    [InlineData("file: brae-desktop-8.0.1.img", "file: ../x.img", "is no file name for media")]
    [InlineData("point-of-no-return: true", "point-of-no-return: false", "must have one step with 'point-of-no-return: true'")]
    [InlineData("hops: [6-to-7]", "hops: [5-to-6]", "does hop '5-to-6', which is not in this file")]
    [InlineData("by: nobody", "by: noone", "expected one of person, script, vendor, nobody")]
    [InlineData("wants: hardware.memory >= 8 GiB", "wants: hardware.memory >= 8", "expected a number with one of the units")]
    [InlineData("kind: flag, meaning: Whether the licence", "kind: flagg, meaning: Whether the licence", "expected one of text, flag")]
    [InlineData("until: not sessions.active > 0", "until: name = x", "reads 'name', which no reading script of this product covers")]
    [InlineData("every: 5 min", "every: 1 s", "read again after 10 s at the earliest")]
    [InlineData("with: record\n", "with: recrod\n", "and no record step of that name comes before it")]
    [InlineData("then: fail }", "then: fails }", "expected one of ignore, follow-up, fail")]
    [InlineData("kind: record, script", "kind: record, provides: [image.staged], script", "only lists what the machine has")]
    [InlineData("resumed-by: pull-resume", "resumed-by: pull-apply", "and no resume step of that name follows it")]
    [InlineData("resumed-by: pull-resume }", "resumed-by: pull-resume-it }", "'pull-resume' resumes, and no suspend step")]
    [InlineData("phase: protect, kind: suspend", "phase: stage, kind: suspend", "nothing is suspended for days")]
    [InlineData("suspends: disk encryption, ", "", "'suspends' is missing")]
    [InlineData("phase: verify, kind: patch", "phase: stage, kind: patch", "within the machine's slot")]
    [InlineData("until: patches.pending = 0", "until: name = x", "reads 'name', which no reading script")]
    [InlineData("at-most: 21 d", "at-most: 2 d", "'at-most' is longer")]
    [InlineData("rounds: 4", "rounds: 0", "expected a whole number of at least 1")]
    [InlineData("phase: reclaim, kind: script", "phase: verify, kind: script", "so it has 'phase: reclaim' and is a script or clean-up")]
    [InlineData("phase: verify, kind: patch", "phase: reclaim, kind: patch", "so it belongs under 'reclaim' of the rollback")]
    [InlineData("phase: reclaim, kind: clean-up", "phase: apply, kind: clean-up", "(clean-up) only prepares, so it belongs to stage")]
    [InlineData("file: terms-7.txt", "file: term-7.txt", "There is no file 'term-7.txt' beside product.yaml")]
    [InlineData("kind: ask-person, who", "kind: ask-person, attempts: 2, who", "only waits, so it has no 'attempts'")]
    public void A_wrong_catalogue_tells_what_is_wrong(string right, string wrong, string says)
    {
        var files = CatalogueFolder.Load(Path.Combine(House.Root, "catalogue", "brae-desktop"));
        var broken = files.SetItem("product.yaml", files["product.yaml"].Replace(right, wrong, StringComparison.Ordinal));
        var error = Assert.Throws<FileException>(() => CatalogueFolder.Parse(broken, KeyRegistry.BuiltIn));
        Assert.Contains(error.Problems, p => p.Message.Contains(says, StringComparison.Ordinal) && p.Line > 1);
    }

    [Fact]
    public void A_check_of_the_product_belongs_to_every_hop_and_a_hop_s_own_of_the_same_name_takes_its_place()
    {
        var files = CatalogueFolder.Load(Path.Combine(House.Root, "catalogue", "debian"));
        var own = files["product.yaml"].Replace("      - name: usr-merge\n", "      - name: patched\n", StringComparison.Ordinal);
        var product = CatalogueFolder.Parse(files.SetItem("product.yaml", own), KeyRegistry.BuiltIn);
        Assert.Equal(2, product.Hops.Length);
        Assert.All(product.Hops, h => Assert.Single(h.Checks, c => c.Name == "none-held"));
        Assert.Contains("disk.usr.merged", product.Hops[0].Checks.Single(c => c.Name == "patched").Wants.Keys);
        Assert.Contains("packages.upgradable", product.Hops[1].Checks.Single(c => c.Name == "patched").Wants.Keys);
    }

    [Fact]
    public void A_fleet_file_is_read_and_broken_lines_are_told_while_the_rest_goes_on()
    {
        const string csv = """
            name,site,tags,connection,address,port,host key,os.version,disk.system.free,seen
            desk-1,Westhaven,a b,ssh,10.0.0.1,,ssh-ed25519 AAAA,6.4,41 GiB,2027-01-11T08:00:00Z
            desk-2,Westhaven
            desk-3,"Quay, north",,simulated,,,,,?,2027-01-11T08:00:00Z
            desk-4,Westhaven,,ssh,10.0.0.4,99999,,6.4,1 GiB,2027-01-11T08:00:00Z
            desk-5,Westhaven,,simulated,,,,six,41,2027-01-11T08:00:00Z
            ,Westhaven,,simulated,,,,6,1 GiB,2027-01-11T08:00:00Z
            DESK-1,Eastness,,simulated,,,,6,1 GiB,2027-01-11T08:00:00Z
            desk-6,Westhaven,,simulated,,,,6,1 GiB,yesterday
            """;
        var file = Read(csv);
        Assert.Equal(["desk-1", "desk-3", "desk-5"], file.Machines.Select(m => m.Name));
        Assert.Equal([3, 5, 6, 6, 7, 8, 9], file.Problems.Select(p => p.Line));
        Assert.Equal("Quay, north", file.Machines[1].Site);
        Assert.Equal(ReadingState.Unreadable, Assert.Single(file.Machines[1].Report.Readings).State);
        Assert.Equal(["a", "b"], file.Machines[0].Tags!.Value);
        Assert.Contains("is a duplicate of line 2; skipped", file.Problems[5].Message, StringComparison.Ordinal);
        Assert.Equal(["os.version", "disk.system.free"], file.Covered);
    }

    [Theory]
    [InlineData("name,os.versoin\na,6", "did you mean 'os.version'")]
    [InlineData("site\na", "no column 'name'")]
    [InlineData("name,os.version\na,6", "does not say when its readings were seen")]
    [InlineData("name,site,site\na,b,c", "is listed twice")]
    [InlineData("", "empty")]
    public void A_fleet_file_with_a_wrong_header_is_refused_whole(string csv, string says) =>
        Assert.Contains(says, Assert.Throws<FileException>(() => Read(csv)).Message, StringComparison.Ordinal);

    [Fact]
    public void Semicolons_quoted_line_breaks_and_a_byte_order_mark_are_read()
    {
        var file = Read("\uFEFFname;site;hardware.model;seen\ndesk-1;\"Quay;\nnorth\";\"Tarn \"\"4\"\"\";2027-01-11T08:00:00Z\n");
        var desk = Assert.Single(file.Machines);
        Assert.Equal(("Quay;\nnorth", "Tarn \"4\""), (desk.Site, desk.Report.Readings.Single().Value!.Text));
        Assert.Empty(file.Problems);
    }

    [Fact]
    public void Json_lines_say_of_a_machine_what_they_have_fields_for_and_nothing_else()
    {
        const string lines = """
            {"name": "desk-1", "site": "Westhaven", "disk.system.free": "41 GiB", "apps": [{"name": "Ledger", "version": "8.2"}], "seen": "2027-01-11T08:00:00Z"}
            {"name": "desk-2", "power.mains": true, "os.version": null, "seen": "2027-01-11T08:00:00Z"}
            {"name": "desk-3", "colour": "blue", "os.versoin": "6", "seen": "2027-01-11T08:00:00Z"}
            ["desk-4"]
            {"name": "desk-5"
            {"name": "desk-6", "os.version": "6"}
            """;
        var file = Read(lines, new("import", IsJsonLines: true));
        Assert.Equal(["desk-1", "desk-2", "desk-3"], file.Machines.Select(m => m.Name));
        Assert.Equal(["disk.system.free", "apps"], file.Machines[0].Report.Covered);
        Assert.Equal("1: Ledger, version 8.2", file.Machines[0].Report.Readings[1].Show());
        Assert.Equal(["yes", "unreadable: the source could not read it"], file.Machines[1].Report.Readings.Select(r => r.Show()));
        Assert.Equal([3, 3, 4, 5, 6], file.Problems.Select(p => p.Line));
        Assert.Contains("did you mean 'os.version'", file.Problems[1].Message, StringComparison.Ordinal);
        Assert.Contains("does not say when its readings were seen", file.Problems[4].Message, StringComparison.Ordinal);
    }

    [Fact]
    public void An_array_in_json_lines_is_a_list_and_an_item_with_the_separator_in_it_is_refused()
    {
        const string lines = """
            {"name": "desk-1", "tags": ["pilot", "till"], "seen": "2027-01-11T08:00:00Z"}
            {"name": "desk-2", "tags": "pilot till", "seen": "2027-01-11T08:00:00Z"}
            {"name": "desk-3", "tags": ["first floor"], "seen": "2027-01-11T08:00:00Z"}
            """;
        var file = Read(lines, new("import", IsJsonLines: true));
        Assert.Equal(["pilot till", "pilot till"], file.Machines.Select(m => string.Join(' ', m.Tags!.Value)));
        Assert.Equal(
            "'tags' has an item with a comma or, among tags, with a blank, which separate items. The line was left out.",
            Assert.Single(file.Problems).Message
        );
    }

    [Fact]
    public void A_mapping_says_which_column_is_which_key_in_which_unit_and_what_is_the_same_for_all()
    {
        var mapping = FleetMapping.Parse(
            """
            columns:
              name: Hostname
              seen: Last scan
              disk.system.free: { column: Free GB, unit: GB }
            constants: { os.product: Brae Desktop, connection: simulated }
            """,
            KeyRegistry.BuiltIn,
            "map.yaml"
        );
        var desk = Assert.Single(
            Read("HOSTNAME,Colour,Free GB,Last scan\ndesk-1,blue,41,2027-01-11T08:00:00Z\n", new("import", Mapping: mapping)).Machines
        );
        Assert.Equal([("disk.system.free", 41e9), ("os.product", 0)], desk.Report.Readings.Select(r => (r.Key, r.Value!.Amount)).Order());
        Assert.Equal("simulated", desk.Connection!.Kind);
        Assert.Contains(
            "a column 'Hostname', which the file has not; did you mean 'Hostnam'?",
            Assert.Throws<FileException>(() => Read("Hostnam,Free GB,Last scan\n", new("import", Mapping: mapping))).Message,
            StringComparison.Ordinal
        );
        var wrong = Assert.Throws<FileException>(() =>
            FleetMapping.Parse(
                "columns:\n  name: Host\n  disk.system.free: { column: Free, unit: d, x: y }\nconstants: { name: a }\n",
                KeyRegistry.BuiltIn,
                "map.yaml"
            )
        );
        Assert.Equal(
            [(3, 46), (3, 43), (4, 12)],
            wrong.Problems.Select(p => (p.Line, p.Column)).OrderBy(p => p.Line).ThenByDescending(p => p.Column)
        );
    }

    [Fact]
    public void A_mapping_says_how_numbers_times_and_texts_are_written()
    {
        var mapping = FleetMapping.Parse(
            File.ReadAllText(Path.Combine(House.Root, "docs", "examples", "mapping.yaml")),
            KeyRegistry.BuiltIn,
            "map.yaml"
        );
        var file = Read(
            """
            Hostname;Location;Last scan;Model;Free GB;Power
            desk-1;Westhaven;31/03/2026 18:05;Brae 4;1.041,5;Mains
            desk-2;Westhaven;31/03/2026 18:05;N/A;-;battery
            desk-3;Westhaven;;Brae 4;12;Mains
            desk-4;Westhaven;03-31-2026;Brae 4;12;Mains
            desk-5;Westhaven;25/10/2026 01:30;Brae 4;12;Sun
            desk-6;Westhaven;02/11/2027 08:00;Brae 4;unknown;Mains
            """,
            new("import", Mapping: mapping)
        );
        Assert.Equal(["desk-1", "desk-2", "desk-3", "desk-5", "desk-6"], file.Machines.Select(m => m.Name));
        string Values(int machine) =>
            string.Join(
                ", ",
                file.Machines[machine].Report.Readings.Where(r => r.Key != "os.product").Select(r => $"{r.Key} {r.Show()}").Order()
            );
        Assert.Equal(new DateTimeOffset(2026, 3, 31, 17, 5, 0, TimeSpan.Zero), file.Machines[0].Seen);
        Assert.Equal(1041.5e9, file.Machines[0].Report.Readings.Single(r => r.Key == "disk.system.free").Value!.Amount);
        Assert.Equal("power.mains no", Values(1));
        Assert.Empty(file.Machines[2].Report.Covered);
        // The first of the hour that comes twice.
        Assert.Equal(new DateTimeOffset(2026, 10, 25, 0, 30, 0, TimeSpan.Zero), file.Machines[3].Seen);
        Assert.Collection(
            file.Problems,
            p =>
                Assert.Equal(
                    (
                        4,
                        "'desk-3' does not say when its readings were seen. They were left out, the rest of the line was kept; say it "
                            + "for such lines with --seen TIME."
                    ),
                    (p.Line, p.Message)
                ),
            p =>
                Assert.Contains(
                    "seen is '03-31-2026', which is not written as 'dd/MM/yyyy HH:mm', such as 31/03/2027 18:05",
                    p.Message,
                    StringComparison.Ordinal
                ),
            p => Assert.Contains("power.mains is 'Sun', expected yes or no", p.Message, StringComparison.Ordinal),
            p =>
                Assert.Contains(
                    "'desk-6': seen is '02/11/2027 08:00', which lies in the future; its readings count as seen now",
                    p.Message,
                    StringComparison.Ordinal
                )
        );
        Assert.Equal(Now, file.Machines[4].Report.Readings[0].Seen);
        Assert.DoesNotContain(file.Machines[4].Report.Readings, r => r.Key == "disk.system.free");
    }

    [Fact]
    public void A_number_that_can_be_read_in_two_ways_is_refused_with_both_unless_a_mapping_or_json_says_which()
    {
        const string header = "name,seen,hardware.memory,network.rate\n";
        var file = Read(header + "desk-1,2027-01-11T08:00:00Z,32.768 MB,1.000 Mbit/s\ndesk-2,2027-01-11T08:00:00Z,0.125 GiB,1.5 Mbit/s\n");
        Assert.Equal(
            ["unreadable", "unreadable", "value", "value"],
            file.Machines.SelectMany(m => m.Report.Readings).Select(r => r.State.ToString().ToLowerInvariant())
        );
        Assert.Contains(
            "hardware.memory is '32.768 MB', which can be read as 32.768 or as 32768",
            file.Problems[0].Message,
            StringComparison.Ordinal
        );
        Assert.Contains(
            "network.rate is '1.000 Mbit/s', which can be read as 1 or as 1000",
            file.Problems[1].Message,
            StringComparison.Ordinal
        );
        var mapping = FleetMapping.Parse(
            "decimal: ','\ncolumns: { name: name, seen: seen, hardware.memory: { column: ram.size, unit: MB } }\n",
            KeyRegistry.BuiltIn,
            "map.yaml"
        );
        var json = Read(
            """
            {"name": "desk-1", "seen": "2027-01-11T08:00:00Z", "ram": {"size": 32.768, "speed": 5}}
            {"name": "desk-2", "seen": "2027-01-11T08:00:00Z", "ram": {"size": "32.768"}}
            """,
            new("import", IsJsonLines: true, Mapping: mapping)
        );
        Assert.Empty(json.Problems);
        Assert.Equal([32.768e6, 32768e6], json.Machines.Select(m => m.Report.Readings.Single().Value!.Amount));
    }

    [Theory]
    [InlineData("decimal: ';'\ncolumns: { name: N }\n", "no character before decimals")]
    [InlineData("zone: Nowhere\ncolumns: { name: N }\n", "no time zone")]
    [InlineData("columns: { name: N, seen: { column: S, format: dd/MM/yyyy HH:mm } }\n", "do not say their zone")]
    [InlineData("columns: { name: N, hardware.model: { column: M, format: dd/MM/yyyy } }\n", "has no format")]
    [InlineData("columns: { name: N, seen: { column: S, format: abc } }\n", "no pattern of a day or time")]
    public void What_is_wrong_in_a_mapping_is_said(string text, string why) =>
        Assert.Contains(
            why,
            Assert.Throws<FileException>(() => FleetMapping.Parse(text, KeyRegistry.BuiltIn, "map.yaml")).Message,
            StringComparison.Ordinal
        );

    [Fact]
    public void The_examples_of_the_docs_are_understood_and_a_wrong_source_is_told_whole()
    {
        string Example(string name) => File.ReadAllText(Path.Combine(House.Root, "docs", "examples", name));
        Assert.Equal("GB", FleetMapping.Parse(Example("mapping.yaml"), KeyRegistry.BuiltIn, "mapping.yaml").Forms["disk.system.free"].Unit);
        var source = SourceFile.Parse(Example("source.yaml"), KeyRegistry.BuiltIn, "source.yaml");
        Assert.Equal(("tls", 636, 500, TimeSpan.FromDays(1)), (source.Security, source.Port, source.PageSize, source.Every));
        var wrong = Assert.Throws<FileException>(() =>
            SourceFile.Parse(
                "source: ssh\nldap: { server: far.example, security: none, base: dc=x, filter: (a=b), bind: cn=r, page: 5000 }\n"
                    + "fields: { site: l, os.versoin: v }\n",
                KeyRegistry.BuiltIn,
                "s.yaml"
            )
        );
        foreach (
            var says in new[]
            {
                "is no name for a source",
                "is for this machine alone",
                "refer to it with 'password'",
                "expected at most 1000",
                "no attribute for 'name'",
                "did you mean 'os.version'",
                "nothing says when the directory saw it",
            }
        )
            Assert.Contains(wrong.Problems, p => p.Message.Contains(says, StringComparison.Ordinal));
    }

    private static (IReadOnlyList<ReportedMachine> Machines, IReadOnlyList<string> Covered, IReadOnlyList<FileProblem> Problems) Read(
        string text,
        FleetFormat? format = null
    )
    {
        var file = new FleetFile(new StringReader(text), "fleet.csv", format ?? new("import"), KeyRegistry.BuiltIn, Now);
        var lines = file.Lines().ToArray();
        return (lines, lines.FirstOrDefault()?.Report.Covered ?? [], file.Problems);
    }

    private static Dictionary<string, Product> Shipped() =>
        Directory
            .GetDirectories(Path.Combine(House.Root, "catalogue"))
            .Select(folder => CatalogueFolder.Parse(CatalogueFolder.Load(folder), KeyRegistry.BuiltIn))
            .ToDictionary(p => p.Name);

    [Fact]
    public void A_what_if_changes_the_text_of_a_plan_by_field_by_entry_and_by_adding_one()
    {
        var body =
            GoodPlan
            + """

                crews: [{ name: harbour, kind: deck-it, hands: 1, zone: UTC, weekly: ["Mon-Fri 08:00-18:00"] }]
                uplinks: [{ sites: [MV Fulmar, MV Gannet], rate: 12 Mbit/s, share: 30 % }]
                """;
        var changed = PlanFile.Parse(
            PlanText.With(
                body,
                [
                    "limits.all=9",
                    "advance.soak = 12 h",
                    "crews.Harbour.hands=3",
                    "uplinks.MV Gannet.share=60 %",
                    "crews+={ name: second, kind: deck-it, hands: 2, zone: UTC, weekly: [\"Sat 08:00-18:00\"] }",
                    "freezes+={ zone: UTC, days: [2027-02-01], why: a storm }",
                ]
            ),
            KeyRegistry.BuiltIn,
            null,
            "plan"
        );
        Assert.Equal((9, 2, TimeSpan.FromHours(12)), (changed.Limits.All, changed.Limits.Site, changed.Advance.Soak));
        Assert.Equal([("harbour", 3), ("second", 2)], changed.Crews.Select(c => (c.Name, c.Hands)));
        Assert.Equal((0.6, "a storm"), (changed.Uplinks.Single().Share, changed.Freezes.Single().Why));
    }

    [Theory]
    [InlineData("limits: { all: 4, site: 2 }", 4, 2)]
    [InlineData("limits: { site: 3 }", null, 3)]
    [InlineData("limits: { all: 5 }", 5, null)]
    [InlineData("limits: {}", null, null)]
    public void A_limit_that_is_left_out_is_none(string limits, int? all, int? site)
    {
        var plan = PlanFile.Parse(
            GoodPlan.Replace("limits: { all: 4, site: 2 }", limits, StringComparison.Ordinal),
            KeyRegistry.BuiltIn,
            null,
            "plan"
        );
        Assert.Equal((all, site), (Limits.Shown(plan.Limits.All), Limits.Shown(plan.Limits.Site)));
    }

    [Theory]
    [InlineData("limits", "'limits' is no change; expected a field")]
    [InlineData("limit.all=9", "the plan has no 'limit' there; did you mean 'limits'?")]
    [InlineData("crews.harbuor.hands=2", "the plan has no 'crews' there")]
    [InlineData("waves.Pilott.count=2", "did you mean 'Pilot'?")]
    [InlineData("limits.all.more=2", "names nothing that has fields")]
    [InlineData("limits+=3", "which is no list")]
    [InlineData("limits.all=[1", "the value cannot be read")]
    public void A_what_if_that_is_none_is_told_with_what_was_expected(string change, string told) =>
        Assert.Contains(told, Assert.Throws<FormatException>(() => PlanText.With(GoodPlan, [change])).Message, StringComparison.Ordinal);
}
