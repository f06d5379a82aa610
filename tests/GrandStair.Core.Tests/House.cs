using System.Reflection.Metadata;
using System.Reflection.PortableExecutable;
using System.Xml.Linq;
using GrandStair.Core.Readings;
using Xunit;

namespace GrandStair.Core.Tests;

/// <summary>The house itself: which part may know which, and that the heart stays pure.</summary>
public sealed class House
{
    private static readonly Dictionary<string, string[]> MayKnow = new()
    {
        ["Core"] = [],
        ["Files"] = ["Core"],
        ["Storage"] = ["Core"],
        ["Connections"] = ["Core"],
        ["Engine"] = ["Core", "Storage", "Connections"],
        ["Contracts"] = [],
        ["Service"] = ["Engine", "Files", "Contracts"],
        ["Client"] = ["Contracts"],
        ["Cli"] = ["Client", "Files"],
    };

    /// <summary>The folders of the core in the direction of the data: none knows one that comes after it.</summary>
    private static readonly string[] CoreFolders =
    [
        "Refusals",
        "Access",
        "Readings",
        "Conditions",
        "Catalogue",
        "Routes",
        "Gates",
        "Methods",
        "Readiness",
        "Exposure",
        "Waves",
        "Scheduling",
        "Runs",
        "SupportCases",
        "Outcomes",
        "Approvals",
        "Plans",
        "Audit",
        "Rehearsals",
    ];

    private static readonly string[] CorePackages = ["NodaTime", "MathNet.Numerics"];

    public static string Root { get; } = FindRoot();

    [Fact]
    public void Every_part_knows_only_the_parts_that_it_may()
    {
        var parts = Directory.GetDirectories(Path.Combine(Root, "src")).Select(d => Path.GetFileName(d)["GrandStair.".Length..]).Order();
        Assert.Equal(MayKnow.Keys.Order(), parts);
        foreach (var (part, may) in MayKnow)
            Assert.Equal(
                may.Order(),
                References(part, "ProjectReference").Select(r => Path.GetFileNameWithoutExtension(r)["GrandStair.".Length..]).Order()
            );
    }

    [Fact]
    public void No_folder_of_the_core_knows_one_that_comes_after_it()
    {
        var knows = Folders("Core");
        Assert.Equal(CoreFolders.Order(), knows.Keys.Order());
        foreach (var (folder, known) in knows)
            Assert.All(known, k =>
                Assert.True(Array.IndexOf(CoreFolders, k) < Array.IndexOf(CoreFolders, folder), $"{folder} knows {k}, which comes after it")
            );
    }

    [Theory]
    [InlineData("Engine")]
    [InlineData("Storage")]
    public void Folders_of_a_part_do_not_know_each_other_in_a_circle(string part)
    {
        var knows = Folders(part);
        Assert.True(knows.Count > 5, $"{knows.Count} folders");
        // Whatever knows only folders that are gone already can go next; a circle stays.
        while (knows.FirstOrDefault(k => !k.Value.Any(knows.ContainsKey)) is { Key: not null } free)
            knows.Remove(free.Key);
        Assert.True(
            knows.Count == 0,
            $"in a circle: "
                + $"{string.Join(", ", knows.Select(k => $"{k.Key} knows {string.Join(" and ", k.Value.Where(knows.ContainsKey))}"))}"
        );
    }

    [Fact]
    public void The_heart_refers_to_the_base_library_and_its_pure_packages_alone()
    {
        Assert.Subset(CorePackages.ToHashSet(), References("Core", "PackageReference").ToHashSet());
        var assemblies = typeof(Reading).Assembly.GetReferencedAssemblies().Select(a => a.Name!).ToArray();
        Assert.DoesNotContain(assemblies, a => !a.StartsWith("System.", StringComparison.Ordinal) && !CorePackages.Contains(a));
        string[] outside = ["System.Net.", "System.Data.", "System.Diagnostics.Process", "System.IO.FileSystem", "System.Threading.Thread"];
        Assert.DoesNotContain(assemblies, a => outside.Any(o => a.StartsWith(o, StringComparison.Ordinal)));
    }

    [Fact]
    public void The_heart_asks_no_clock_no_chance_and_no_file()
    {
        using var file = File.OpenRead(typeof(Reading).Assembly.Location);
        using var image = new PEReader(file);
        var meta = image.GetMetadataReader();
        var used = meta
            .MemberReferences.Select(handle => meta.GetMemberReference(handle))
            .Where(m => m.Parent.Kind == HandleKind.TypeReference)
            .Select(m => (Type: meta.GetTypeReference((TypeReferenceHandle)m.Parent), Member: meta.GetString(m.Name)))
            .Select(m => $"{meta.GetString(m.Type.Namespace)}.{meta.GetString(m.Type.Name)}.{m.Member}")
            .ToHashSet();
        Assert.Contains(used, u => u.StartsWith("System.DateTimeOffset.", StringComparison.Ordinal));
        string[] impure = ["get_UtcNow", "get_Now", "get_Today", "GetTimestamp", "NewGuid"];
        Assert.DoesNotContain(used, u =>
            impure.Any(i => u.EndsWith($".{i}", StringComparison.Ordinal))
            || u.StartsWith("System.Random.", StringComparison.Ordinal)
            || u.StartsWith("System.IO.File.", StringComparison.Ordinal)
        );
    }

    [Fact]
    public void What_simulated_machines_are_really_like_is_known_to_their_connection_alone()
    {
        var knowing = Sources("src")
            .Where(f => File.ReadAllText(f).Contains("\"truth.", StringComparison.Ordinal))
            .Select(f => Path.GetFileName(Path.GetDirectoryName(f))!)
            .Distinct();
        Assert.Equal(["Simulation"], knowing);
    }

    [Fact]
    public void Endpoints_know_the_fleet_and_the_plans_only_as_their_caller_sees_them()
    {
        var endpoints = Directory
            .GetFiles(Path.Combine(Root, "src", "GrandStair.Service"), "*Endpoints.cs", SearchOption.AllDirectories)
            .Append(Path.Combine(Root, "src", "GrandStair.Service", "Readiness", "Target.cs"))
            .ToArray();
        Assert.True(endpoints.Length > 12, $"{endpoints.Length} files");
        string[] unseen = ["FleetCache", "PlanTable"];
        Assert.All(endpoints, file => Assert.DoesNotContain(unseen, u => File.ReadAllText(file).Contains(u, StringComparison.Ordinal)));
    }

    [Fact]
    public void Every_test_that_the_page_of_attacks_names_exists()
    {
        var named = System
            .Text.RegularExpressions.Regex.Matches(File.ReadAllText(Path.Combine(Root, "docs", "attacks.md")), "`([A-Z][A-Za-z_]{20,})`")
            .Select(m => m.Groups[1].Value)
            .Distinct()
            .ToArray();
        Assert.True(named.Length > 20, $"{named.Length} names");
        var tests = string.Concat(Sources("tests").Where(f => f.EndsWith("Tests.cs", StringComparison.Ordinal)).Select(File.ReadAllText));
        Assert.All(named, n => Assert.Contains($" {n}(", tests, StringComparison.Ordinal));
    }

    [Fact]
    public void What_the_client_prints_goes_through_one_place_that_cleans_it()
    {
        string[] may =
        [
            "TerminalStreams.cs",
            "CommandLine.cs",
            "Terminal.cs",
            "Screen.cs",
            "Hidden.cs",
            "PlanningCommands.cs",
            "FleetCommands.cs",
            "CompletionCommands.cs",
        ];
        var printing = Sources("src", "GrandStair.Cli")
            .Where(f =>
                System.Text.RegularExpressions.Regex.IsMatch(
                    File.ReadAllText(f),
                    @"Console\.(Out|Error|Write)\b|Console\.Write(Line)?\(|Streams\.(Output|Error)\b"
                )
            )
            .Select(f => Path.GetFileName(f)!);
        Assert.Subset(may.ToHashSet(), printing.ToHashSet());
    }

    [Fact]
    public void Locked_package_versions_stand_beside_every_project()
    {
        var projects = new[] { "src", "tests" }
            .SelectMany(d => Directory.GetDirectories(Path.Combine(Root, d)))
            .Where(d => Directory.GetFiles(d, "*.csproj").Length > 0);
        Assert.All(projects, p => Assert.True(File.Exists(Path.Combine(p, "packages.lock.json")), p));
    }

    [Fact]
    public void No_line_is_longer_than_140_columns_but_data_in_raw_strings_of_tests()
    {
        string[] parts = ["src", "tests", "benches"];
        var files = parts.SelectMany(p => Sources(p)).ToArray();
        Assert.True(files.Length > 300, $"{files.Length} files");
        Assert.Empty(files.SelectMany(TooLong));
    }

    private static IEnumerable<string> TooLong(string file)
    {
        var isTest = file.Contains("/tests/", StringComparison.Ordinal);
        var inRaw = false;
        foreach (var (number, line) in File.ReadLines(file).Index())
        {
            var marks = line.Split("\"\"\"").Length - 1;
            if (line.Length > 140 && !(isTest && (inRaw || marks > 0)))
                yield return $"{Path.GetFileName(file)}:{number + 1} has {line.Length} columns";
            if (marks % 2 == 1)
                inRaw = !inRaw;
        }
    }

    /// <summary>The sources under a folder, without what a build writes.</summary>
    public static IEnumerable<string> Sources(params string[] folder) =>
        Directory
            .GetFiles(Path.Combine([Root, .. folder]), "*.cs", SearchOption.AllDirectories)
            .Where(f => !f.Contains("/obj/", StringComparison.Ordinal) && !f.Contains("/bin/", StringComparison.Ordinal));

    /// <summary>Which folders of its part each folder knows.</summary>
    private static Dictionary<string, HashSet<string>> Folders(string part) =>
        Directory
            .GetDirectories(Path.Combine(Root, "src", $"GrandStair.{part}"))
            .Where(d => Path.GetFileName(d) is not ("bin" or "obj") && Directory.GetFiles(d, "*.cs").Length > 0)
            .ToDictionary(
                d => Path.GetFileName(d),
                d =>
                    Directory
                        .GetFiles(d, "*.cs")
                        .SelectMany(File.ReadLines)
                        .Where(l => l.StartsWith($"using GrandStair.{part}.", StringComparison.Ordinal))
                        .Select(l => l[$"using GrandStair.{part}.".Length..].TrimEnd(';'))
                        .Where(known => known != Path.GetFileName(d))
                        .ToHashSet()
            );

    private static string[] References(string part, string kind) =>
        [
            .. XDocument
                .Load(Path.Combine(Root, "src", $"GrandStair.{part}", $"GrandStair.{part}.csproj"))
                .Descendants(kind)
                .Select(r => r.Attribute("Include")!.Value),
        ];

    private static string FindRoot()
    {
        var folder = new DirectoryInfo(AppContext.BaseDirectory);
        while (!File.Exists(Path.Combine(folder.FullName, "GrandStair.slnx")))
            folder = folder.Parent!;
        return folder.FullName;
    }
}
