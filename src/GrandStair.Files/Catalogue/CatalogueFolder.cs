using System.Collections.Immutable;
using System.Globalization;
using System.Security.Cryptography;
using System.Text;
using GrandStair.Core.Access;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Conditions;
using GrandStair.Core.Readings;
using GrandStair.Core.Runs;
using GrandStair.Files.Yaml;

namespace GrandStair.Files.Catalogue;

/// <summary>Reads a product's folder of the catalogue: <c>product.yaml</c> and the scripts that it names.</summary>
public static class CatalogueFolder
{
    // A step of a minute may well take ten on a busy machine; nobody needs to be asked before that.
    private static readonly TimeSpan ShortestLimit = TimeSpan.FromMinutes(30);
    private static readonly TimeSpan UsualEvery = TimeSpan.FromMinutes(5);
    private const int UsualRounds = 5;
    private static readonly TimeSpan ShortestEvery = TimeSpan.FromSeconds(10);
    private const string ProductFile = "product.yaml";
    private const long LargestFile = 4 << 20;

    /// <summary>
    /// Reads all files of a folder, by name. Symbolic links are refused: what one points to would be shown to everybody who may read the
    /// catalogue.
    /// </summary>
    /// <exception cref="FileException">The folder or a file in it is a link, is no file, or is larger than a catalogue's file may
    /// be.</exception>
    public static ImmutableSortedDictionary<string, string> Load(string folder)
    {
        if (new DirectoryInfo(folder).LinkTarget is not null)
            throw Refused(folder, "It is a link; expected a folder of its own.");
        return new DirectoryInfo(folder)
            .EnumerateFileSystemInfos()
            .Where(e => e is FileInfo || e.LinkTarget is not null)
            .ToImmutableSortedDictionary(
                e => e.Name,
                e =>
                    e switch
                    {
                        { LinkTarget: not null } => throw Refused(
                            e.FullName,
                            "It is a link; expected a file of its own. Copy the file into the folder."
                        ),
                        FileInfo file when file.Attributes.HasFlag(FileAttributes.Device) || file.Length > LargestFile => throw Refused(
                            e.FullName,
                            $"It is no file, or larger than {LargestFile >> 20} MiB."
                        ),
                        _ => File.ReadAllText(e.FullName),
                    },
                StringComparer.Ordinal
            );
    }

    private static FileException Refused(string file, string why) => new([new(file, 1, 0, why)]);

    /// <summary>The SHA-256 over the names and contents of all files, in hexadecimal.</summary>
    public static string Hash(ImmutableSortedDictionary<string, string> files)
    {
        using var hash = IncrementalHash.CreateHash(HashAlgorithmName.SHA256);
        foreach (var (name, content) in files)
        {
            foreach (var part in new[] { name, content })
            {
                var bytes = Encoding.UTF8.GetBytes(part);
                hash.AppendData(BitConverter.GetBytes(bytes.Length));
                hash.AppendData(bytes);
            }
        }

        return Convert.ToHexStringLower(hash.GetHashAndReset());
    }

    /// <summary>Parses a product's files.</summary>
    /// <param name="files">The files' contents by name.</param>
    /// <param name="keys">The known keys; the product's own come on top.</param>
    /// <param name="where">What to call <c>product.yaml</c> in errors.</param>
    /// <exception cref="FileException">Something is wrong in them; all of it is reported, with line and column.</exception>
    public static Product Parse(ImmutableSortedDictionary<string, string> files, KeyRegistry keys, string where = ProductFile)
    {
        ArgumentNullException.ThrowIfNull(files);
        if (!files.TryGetValue(ProductFile, out var text))
            throw new FileException([new(where, 1, 0, "The file is missing; a product's folder has a product.yaml.")]);
        var problems = new Problems(where);
        var map = YamlMap.Read(text, problems);
        var own = map.Maps("keys").Select(KeyOf).ToImmutableArray();
        try
        {
            keys = keys.With(own);
        }
        catch (ArgumentException error)
        {
            map.Wrong("keys", error.Message);
        }

        var scripts = new Scripts(files);
        ImmutableArray<Reader> readers = [.. map.Maps("readers").Select(r => Reader(r, scripts, keys))];
        var ofEveryHop = Checks(map, keys, scripts);
        var product = new Product
        {
            Name = map.Text("product"),
            Hash = Hash(files),
            Is = map.Required("is", keys),
            VersionKey = Key(map, "version-key", keys) ?? "",
            EditionKey = Key(map, "edition-key", keys, required: false),
            BuildKey = Key(map, "build-key", keys, required: false),
            Zone = ZoneOf(map),
            Editions = [.. map.Texts("editions")],
            Components = [.. map.Maps("components").Select(p => ComponentOf(p, keys))],
            Keys = own,
            Readers = readers,
            Releases = [.. map.Maps("releases").Select(r => ReleaseOf(r, keys, files))],
            Media = [.. map.Maps("media").Select(m => MediaOf(m, keys))],
            KnownIssues = [.. map.Maps("known-issues").Select(i => IssueOf(i, keys, scripts))],
            Hops = [.. map.Maps("hops").Select(h => HopOf(h, ofEveryHop, keys, scripts))],
            Methods = [.. map.Maps("methods").Select(m => MethodOf(m, keys, scripts, readers))],
            Scripts = files.Remove(ProductFile).ToImmutableDictionary(),
        };
        map.Done();
        CheckTogether(map, product);
        problems.ThrowIfAny();
        return product;
    }

    /// <summary>Checks that need the whole file.</summary>
    private static void CheckTogether(YamlMap map, Product product)
    {
        bool IsRelease(string version) => product.Releases.Any(r => r.Version == version);
        foreach (var twice in Twice(product.Releases.Select(r => r.Version)))
            map.Wrong("releases", $"Release '{twice}' is listed twice.");
        foreach (var twice in Twice(product.Hops.Select(h => h.Name)))
            map.Wrong("hops", $"Hop '{twice}' is listed twice.");
        foreach (var twice in Twice(product.Methods.Select(m => m.Name)))
            map.Wrong("methods", $"Method '{twice}' is listed twice.");
        foreach (var twice in Twice(product.KnownIssues.Select(i => i.Name)))
            map.Wrong("known-issues", $"Known issue '{twice}' is listed twice.");
        foreach (var release in product.Releases)
        {
            foreach (
                var build in release.Builds.Where(b =>
                    b.Version != release.Version && !b.Version.StartsWith(release.Version + ".", StringComparison.Ordinal)
                )
            )
                map.Wrong("releases", $"Build '{build.Version}' does not begin with its release's version '{release.Version}'.");
            foreach (
                var edition in release.SupportEnds.Keys.Where(e => e != "*" && !product.Editions.IsEmpty && !product.Editions.Contains(e))
            )
                map.Wrong(
                    "releases",
                    $"Release '{release.Version}' names the edition '{edition}', which is not under "
                        + $"'editions'{Near(edition, product.Editions)}."
                );
            foreach (var component in release.Components.Keys.Where(p => product.Components.All(known => known.Name != p)))
                map.Wrong(
                    "releases",
                    $"Release '{release.Version}' needs the component '{component}', which is not under "
                        + $"'components'{Near(component, product.Components.Select(p => p.Name))}."
                );
        }

        foreach (var hop in product.Hops)
        {
            if (hop.Component is { } component && product.Components.All(p => p.Name != component))
                map.Wrong(
                    "hops",
                    $"Hop '{hop.Name}' raises the component '{component}', which is not under "
                        + $"'components'{Near(component, product.Components.Select(p => p.Name))}."
                );
            if (hop.Component is null && !IsRelease(hop.To))
                map.Wrong("hops", $"Hop '{hop.Name}' leads to '{hop.To}', which is no release of this file.");
            foreach (var from in hop.From.Where(f => hop.Component is null && !IsRelease(f)))
                map.Wrong("hops", $"Hop '{hop.Name}' starts from '{from}', which is no release of this file.");
            foreach (
                var edition in hop
                    .Editions.SelectMany(e => new[] { e.Key, e.Value })
                    .Distinct()
                    .Where(e => !product.Editions.IsEmpty && !product.Editions.Contains(e))
            )
                map.Wrong(
                    "hops",
                    $"Hop '{hop.Name}' maps the edition '{edition}', which is not under 'editions'{Near(edition, product.Editions)}."
                );
            var methods = product.Methods.Where(m => m.Hops.Contains(hop.Name)).ToArray();
            foreach (var twice in Twice(hop.Checks.Select(c => c.Name)))
                map.Wrong("hops", $"The check '{twice}' is listed twice on hop '{hop.Name}'; a check's name must be unique.");
            foreach (var method in methods)
            {
                foreach (var twice in method.Checks.Select(c => c.Name).Where(n => hop.Checks.Any(c => c.Name == n)))
                    map.Wrong(
                        "methods",
                        $"The check '{twice}' of method '{method.Name}' is also on hop '{hop.Name}'; a check's name must be unique."
                    );
            }
            foreach (var method in methods)
                CheckOrder(map, product, hop, method);
            if (methods.All(m => m.Way != Way.Upgrade))
                map.Wrong("hops", $"No method does hop '{hop.Name}'; name it under the 'hops' of one.");
        }

        foreach (var issue in product.KnownIssues.Where(i => !IsRelease(i.Release)))
            map.Wrong("known-issues", $"Known issue '{issue.Name}' is of release '{issue.Release}', which is not in this file.");
        foreach (var twice in Twice(product.Media.Select(m => m.Name)))
            map.Wrong("media", $"Media '{twice}' is listed twice.");
        foreach (
            var file in product
                .Media.SelectMany(m => m.Variants)
                .GroupBy(v => v.File)
                .Where(g => g.Select(v => (v.Sha256, v.Size)).Distinct().Count() > 1)
        )
            map.Wrong("media", $"The file '{file.Key}' has different checksums or sizes; give each content a file name of its own.");
        foreach (var method in product.Methods)
        {
            CheckMedia(map, product, method);
            foreach (var hop in method.Hops.Where(h => product.Hops.All(p => p.Name != h)))
                map.Wrong(
                    "methods",
                    $"Method '{method.Name}' does hop '{hop}', which is not in this file{Near(hop, product.Hops.Select(h => h.Name))}."
                );
        }
    }

    /// <summary>No check may be asked before the first step that makes it true.</summary>
    private static void CheckOrder(YamlMap map, Product product, Hop hop, Method method)
    {
        foreach (var key in method.Steps.SelectMany(s => s.Provides).Distinct())
        {
            var first = method.Steps.Where(s => s.Provides.Contains(key)).MinBy(s => FirstMomentAfter(s.Phase))!;
            var earliest = FirstMomentAfter(first.Phase);
            foreach (var check in hop.Checks.Concat(method.Checks).Where(c => c.Wants.Keys.Contains(key) && c.AskedAt.Min() < earliest))
            {
                var of = method.Checks.Contains(check) ? $"method '{method.Name}'" : $"hop '{hop.Name}'";
                map.Maps("methods")
                    .ElementAt(product.Methods.IndexOf(method))
                    .Wrong(
                        "steps",
                        $"Check '{check.Name}' of {of} is asked at {RunMachine.Name(check.AskedAt.Min())}, before step '{first.Name}' "
                            + $"({RunMachine.Name(first.Phase)}) of method '{method.Name}' provides {key}. Ask it at "
                            + $"{RunMachine.Name(earliest)} or later."
                    );
            }
        }
    }

    /// <summary>The first moment at which checks are asked after the steps of a phase.</summary>
    private static Moment FirstMomentAfter(Phase phase) =>
        phase switch
        {
            Phase.Stage => Moment.Start,
            Phase.Protect => Moment.Protected,
            _ => Moment.Verification,
        };

    private static IEnumerable<string> Twice(IEnumerable<string> names) =>
        names.GroupBy(n => n).Where(g => g.Count() > 1).Select(g => g.Key);

    private static string Near(string name, IEnumerable<string> known) => Spelling.DidYouMean(name, known, "");

    private static KeyDefinition KeyOf(YamlMap map)
    {
        var key = new KeyDefinition(map.Text("key"), map.Word<ValueKind>("kind"), map.Text("meaning"))
        {
            Columns = [.. map.Maps("columns").Select(ColumnOf)],
        };
        map.Done();
        return key;
    }

    private static KeyDefinition ColumnOf(YamlMap map)
    {
        var column = new KeyDefinition(map.Text("column"), map.Word<ValueKind>("kind"), map.Text("meaning"));
        if (column.Kind is ValueKind.Table or ValueKind.List)
            map.Wrong("kind", "A column of a table holds one value; expected none of list and table.");
        map.Done();
        return column;
    }

    private static void CheckName(YamlMap map, string name, string of)
    {
        if (name.Any(c => !char.IsAsciiLetterOrDigit(c) && c != '-'))
            map.Wrong("name", $"'{name}' is no name of {of}; expected letters, digits and hyphens.");
    }

    private static Media MediaOf(YamlMap map, KeyRegistry keys)
    {
        var media = new Media(map.Text("name"), map.Text("title"), [.. map.Maps("variants").Select(v => VariantOf(v, keys))]);
        CheckName(map, media.Name, "media");
        if (media.Variants.IsEmpty)
            map.Wrong("variants", $"Media '{media.Name}' has no variant; name at least one file with its 'sha256' and 'size'.");
        foreach (var never in media.Variants.SkipWhile(v => v.For is not null).Skip(1))
            map.Wrong("variants", $"'{never.File}' is never chosen: the variant before it has no 'for', so it is for all machines.");
        map.Done();
        return media;
    }

    private static MediaVariant VariantOf(YamlMap map, KeyRegistry keys)
    {
        var variant = new MediaVariant(
            map.Text("file"),
            map.Text("sha256").ToLowerInvariant(),
            (long)(map.Amount("size", ValueKind.Size) ?? 0),
            map.Condition("for", keys)
        );
        if (!MediaVariant.IsFileName(variant.File))
            map.Wrong("file", $"'{variant.File}' is no file name for media; expected letters, digits, '.', '-' and '_'.");
        if (!MediaVariant.IsSha256(variant.Sha256))
            map.Wrong("sha256", $"'{variant.Sha256}' is no SHA-256; expected the 64 hexadecimal digits that 'sha256sum FILE' prints.");
        if (variant.Size <= 0)
            map.Wrong("size", $"The size of '{variant.File}' is missing; expected one such as 2.6 GiB or 65011712 B.");
        map.Done();
        return variant;
    }

    private static string? Key(YamlMap map, string field, KeyRegistry keys, bool required = true)
    {
        var name = required ? map.Text(field) : map.Optional(field);
        if (name?.Length > 0)
            CheckKeys(map, field, [name], keys);
        return name;
    }

    private static void CheckKeys(YamlMap map, string field, IEnumerable<string> names, KeyRegistry keys)
    {
        foreach (var name in names.Where(n => keys.Find(n) is null))
            map.Wrong(
                field,
                $"There is no key '{name}'{(keys.Nearest(name) is { } near ? $"; did you mean '{near}'?" : "; declare it under 'keys'.")}"
            );
    }

    private static string ZoneOf(YamlMap map)
    {
        var zone = map.Optional("zone") ?? "UTC";
        if (NodaTime.DateTimeZoneProviders.Tzdb.GetZoneOrNull(zone) is null)
            map.Wrong("zone", $"'{zone}' is no time zone; expected a name such as Europe/London.");
        return zone;
    }

    private static Component ComponentOf(YamlMap map, KeyRegistry keys)
    {
        var component = new Component(map.Text("component"), map.Text("title"), Key(map, "version-key", keys) ?? "");
        map.Done();
        return component;
    }

    private static Reader Reader(YamlMap map, Scripts scripts, KeyRegistry keys)
    {
        var reader = new Reader(scripts.Named(map, "script"), [.. map.Texts("covers")]);
        CheckKeys(map, "covers", reader.Covers, keys);
        map.Done();
        return reader;
    }

    private static Release ReleaseOf(YamlMap map, KeyRegistry keys, ImmutableSortedDictionary<string, string> files)
    {
        var ends = ImmutableDictionary.CreateBuilder<string, DateOnly>();
        foreach (var (edition, date) in map.Pairs("support-ends"))
        {
            if (DateOnly.TryParseExact(date, "yyyy-MM-dd", CultureInfo.InvariantCulture, DateTimeStyles.None, out var end))
                ends[edition] = end;
            else
                map.Wrong("support-ends", $"'{date}' is no day; expected one such as 2027-03-31.");
        }

        var release = new Release(map.Text("version"), map.Text("name"), map.Word("status", ReleaseStatus.Available), ends.ToImmutable())
        {
            Out = map.Date("out"),
            Builds = [.. map.Maps("builds").Select(BuildOf).OrderBy(b => b.Version, VersionOrder.Instance)],
            OfferedTo = map.Condition("offered-to", keys),
            MustReads = [.. map.Maps("must-reads").Select(MustReadOf)],
            Terms = [.. map.Maps("terms").Select(t => TermsOf(t, files))],
            Components = map.Pairs("components").ToImmutableDictionary(),
        };
        if (release is { OfferedTo: not null, Status: not ReleaseStatus.PhasedIn })
            map.Wrong("offered-to", "Only a release with 'status: phased-in' is offered to some machines; the others are to all.");
        if (release is { OfferedTo: null, Status: ReleaseStatus.PhasedIn })
            map.Wrong("status", "A release that is phased in must say with 'offered-to' which machines it is offered to.");
        map.Done();
        return release;
    }

    private static Build BuildOf(YamlMap map)
    {
        var build = new Build(map.Text("version"), map.Date("out"), map.Optional("notes") ?? "");
        map.Done();
        return build;
    }

    private static MustRead MustReadOf(YamlMap map)
    {
        var read = new MustRead(map.Text("name"), map.Text("title"), map.Text("words"));
        map.Done();
        return read;
    }

    private static LicenceTerms TermsOf(YamlMap map, ImmutableSortedDictionary<string, string> files)
    {
        var file = map.Text("file");
        if (!files.TryGetValue(file, out var text) && file.Length > 0)
            map.Wrong("file", $"There is no file '{file}' beside product.yaml{Near(file, files.Keys)}.");
        var terms = new LicenceTerms(map.Text("name"), map.Text("title"), file, text ?? "");
        CheckName(map, terms.Name, "licence terms");
        map.Done();
        return terms;
    }

    private static KnownIssue IssueOf(YamlMap map, KeyRegistry keys, Scripts scripts)
    {
        var issue = new KnownIssue
        {
            Name = map.Text("name"),
            Title = map.Text("title"),
            Release = map.Text("release"),
            Need = map.Word("need", Need.Must),
            Touches = map.Required("touches", keys),
            Since = map.Optional("since"),
            FixedIn = map.Optional("fixed-in"),
            Fix = FixOf(map, scripts),
            Waivable = map.Flag("waivable"),
        };
        map.Done();
        return issue;
    }

    /// <summary>A hop with its own checks, after those of every hop that it has none of the same name for.</summary>
    private static Hop HopOf(YamlMap map, ImmutableArray<Check> ofEveryHop, KeyRegistry keys, Scripts scripts)
    {
        var own = Checks(map, keys, scripts);
        var brings = ImmutableDictionary.CreateBuilder<string, ReadingValue>();
        foreach (var (name, text) in map.Pairs("brings"))
        {
            if (keys.Find(name) is not { } key)
                map.Wrong(
                    "brings",
                    $"There is no key "
                        + $"'{name}'{(keys.Nearest(name) is { } near ? $"; did you mean '{near}'?" : "; declare it under 'keys'.")}"
                );
            else if (key.Parse(text, out var expected) is { } value)
                brings[name] = value;
            else
                map.Wrong("brings", $"'{text}' does not fit '{name}'; expected {expected}.");
        }

        var hop = new Hop(
            map.Text("name"),
            [.. map.Texts("from")],
            map.Text("to"),
            map.Pairs("editions").ToImmutableDictionary(),
            [.. ofEveryHop.ExceptBy(own.Select(c => c.Name), c => c.Name), .. own]
        )
        {
            Component = map.Optional("component"),
            Brings = brings.ToImmutable(),
        };
        map.Done();
        return hop;
    }

    private static ImmutableArray<Check> Checks(YamlMap map, KeyRegistry keys, Scripts scripts) =>
        [.. map.Maps("checks").Select(c => CheckOf(c, keys, scripts))];

    private static Check CheckOf(YamlMap map, KeyRegistry keys, Scripts scripts)
    {
        var moments = map.Words<Moment>("asked-at");
        var check = new Check
        {
            Name = map.Text("name"),
            Title = map.Text("title"),
            Need = map.Word("need", Need.Must),
            Wants = map.Required("wants", keys),
            AppliesTo = map.Condition("applies-to", keys),
            Fresh = map.Duration("fresh"),
            AskedAt = moments.Count > 0 ? [.. moments] : [Moment.Planning, Moment.Start],
            Fix = FixOf(map, scripts),
            Waivable = map.Flag("waivable"),
            Component = map.Optional("component"),
        };
        CheckName(map, check.Name, "a check");
        if (check is { Waivable: true, Need: Need.Should })
            map.Wrong("waivable", "A should is acknowledged, not waived; leave 'waivable' out.");
        if (check is { Waivable: true, Fix.By: FixedBy.Nobody })
            map.Wrong("waivable", "What cannot be fixed cannot be waived either.");
        map.Done();
        return check;
    }

    private static Fix FixOf(YamlMap map, Scripts scripts)
    {
        var fix = map.Map("fix");
        var script = fix.Has("script") ? scripts.Named(fix, "script") : null;
        var of = new Fix(fix.Word<FixedBy>("by"), fix.Text("words"), fix.Duration("takes"), script, fix.Flag("restarts"));
        if (script is not null && of.By != FixedBy.Script)
            fix.Wrong("script", "A fix with a script is 'by: script'.");
        if (script is null && of.By == FixedBy.Script)
            fix.Wrong("by", "A fix that is 'by: script' has to name its 'script'.");
        if (script is null && of.Restarts)
            fix.Wrong("restarts", "Only a script can be said to restart the machine.");
        fix.Done();
        return of;
    }

    private static Method MethodOf(YamlMap map, KeyRegistry keys, Scripts scripts, ImmutableArray<Reader> readers)
    {
        var way = map.Word("way", Way.Upgrade);
        var rollback = map.OptionalMap("rollback");
        var needs = map.OptionalMap("needs");
        var method = new Method
        {
            Name = map.Text("name"),
            Title = map.Text("title"),
            Hops = [.. map.Texts("hops")],
            Way = way,
            Needs = needs is null
                ? new()
                : new(
                    needs.Optional("media"),
                    needs.Optional("crew"),
                    needs.Flag("owner-present"),
                    needs.Amount("stages", ValueKind.Size) ?? 0
                ),
            Suits = map.Condition("suits", keys),
            Preserves = way == Way.Upgrade ? map.Word<Preserves>("preserves") : Preserves.None,
            Checks = Checks(map, keys, scripts),
            Patches = [.. map.Words<PatchTime>("patches").Distinct()],
            Steps = [.. map.Maps("steps").Select(s => StepOf(s, keys, scripts, readers))],
            Rollback = rollback is null
                ? new("There is none.", TimeSpan.Zero, [])
                : new(
                    rollback.Text("words"),
                    rollback.Duration("lasts") ?? TimeSpan.Zero,
                    [.. rollback.Maps("steps").Select(s => StepOf(s, keys, scripts, readers))]
                )
                {
                    AtMost = rollback.Duration("at-most") ?? TimeSpan.Zero,
                    Reclaim = [.. rollback.Maps("reclaim").Select(s => StepOf(s, keys, scripts, readers))],
                },
        };
        if (way == Way.Upgrade && rollback is null)
            map.Wrong("name", $"Method '{method.Name}' has no 'rollback'; say how it is undone, or in its words that it cannot be.");
        if (method.Rollback.AtMost > TimeSpan.Zero && method.Rollback.AtMost < method.Rollback.Lasts)
            rollback!.Wrong("at-most", "A rollback is kept for as long as it 'lasts' without being asked for; 'at-most' is longer.");
        needs?.Done();
        rollback?.Done();
        map.Done();
        var turning = method.Steps.Count(s => s.PointOfNoReturn);
        if (way == Way.Upgrade && turning != 1)
            map.Wrong("steps", $"Method '{method.Name}' must have one step with 'point-of-no-return: true', and has {turning}.");
        if (way != Way.Upgrade && method.Steps.Length + method.Checks.Length > 0)
            map.Wrong("steps", $"Method '{method.Name}' upgrades nothing (way: {RunMachine.Name(way)}), so it has no steps and no checks.");
        CheckSteps(map, method);
        return method.GoesSideBySide ? method with { Checks = [.. method.Checks, SecondMachine(keys)] } : method;
    }

    /// <summary>That there is a second machine, which every method asks that goes side by side.</summary>
    private static Check SecondMachine(KeyRegistry keys) =>
        new()
        {
            Name = Successors.Check,
            Title = "Its second machine is known",
            Need = Need.Must,
            Wants = ConditionParser.Parse($"{Successors.Successor} is known", keys),
            Fix = new(
                FixedBy.Person,
                $"Build or clone the second machine, and import it with '{Successors.Replaces}' set to the name of this one.",
                null
            ),
        };

    /// <summary>Media that a method fetches has to be in the file, and cleaning up after fetching it would remove it.</summary>
    private static void CheckMedia(YamlMap map, Product product, Method method)
    {
        foreach (var step in method.Steps.Where(s => s.Kind == StepKind.FetchMedia && product.Media.All(m => m.Name != s.Media)))
            map.Wrong(
                "methods",
                $"Step '{step.Name}' of method '{method.Name}' fetches '{step.Media}', which is not under "
                    + $"'media'{Near(step.Media!, product.Media.Select(m => m.Name))}."
            );
        foreach (var step in method.Steps.SkipWhile(s => s.Kind != StepKind.FetchMedia).Where(s => s.Kind == StepKind.CleanUp))
            map.Wrong(
                "methods",
                $"Step '{step.Name}' of method '{method.Name}' cleans up after media was fetched; clean up first, to have the space for it."
            );
    }

    /// <summary>Checks what steps of a method say of each other.</summary>
    private static void CheckSteps(YamlMap map, Method method)
    {
        foreach (var (step, at) in method.Steps.Select((s, i) => (s, i)).Where(x => x.s.ResumedBy is not null))
        {
            if (!method.Steps.Skip(at + 1).Any(s => s.Name == step.ResumedBy && s.Kind == StepKind.Resume))
                map.Wrong(
                    "steps",
                    $"Step '{step.Name}' says 'resumed-by: {step.ResumedBy}', and no resume step of that name follows it in method "
                        + $"'{method.Name}'."
                );
        }

        foreach (
            var step in method.Steps.Where(s =>
                s.ResumedBy is { } by && method.Steps.Any(r => r.Name == by && r.OnSuccessor != s.OnSuccessor)
            )
        )
            map.Wrong("steps", $"Step '{step.Name}' suspends something on one machine, and '{step.ResumedBy}' resumes it on the other.");
        foreach (var step in method.Rollback.Steps.Concat(method.Rollback.Reclaim).Where(s => s.OnSuccessor && !method.GoesSideBySide))
            map.Wrong("rollback", $"Step '{step.Name}' is done on a second machine, and no step of the upgrade is.");

        foreach (var step in method.Steps.Where(s => s.Kind == StepKind.Resume && method.Steps.All(o => o.ResumedBy != s.Name)))
            map.Wrong(
                "steps",
                $"Step '{step.Name}' resumes, and no suspend step of method '{method.Name}' says 'resumed-by: {step.Name}'."
            );

        foreach (var (step, at) in method.Steps.Select((s, i) => (s, i)).Where(x => x.s.With is not null))
        {
            var kind = step.Kind == StepKind.Compare ? StepKind.Record : StepKind.SaveFiles;
            if (!method.Steps.Take(at).Any(s => s.Name == step.With && s.Kind == kind))
                map.Wrong(
                    "steps",
                    $"Step '{step.Name}' says 'with: {step.With}', and no {RunMachine.Name(kind)} step of that name comes before it in "
                        + $"method '{method.Name}'."
                );
        }

        foreach (
            var step in method.Rollback.Reclaim.Where(s =>
                s.Phase != Phase.Reclaim || s.Kind is not (StepKind.Script or StepKind.CleanUp) || s.PointOfNoReturn
            )
        )
            map.Wrong(
                "rollback",
                $"Step '{step.Name}' only deletes what was kept for the rollback, so it has 'phase: reclaim' and is a script or clean-up."
            );
        foreach (var step in method.Steps.Concat(method.Rollback.Steps).Where(s => s.Phase == Phase.Reclaim))
            map.Wrong("steps", $"Step '{step.Name}' has 'phase: reclaim', so it belongs under 'reclaim' of the rollback.");
        foreach (var twice in Twice(method.Steps.Concat(method.Rollback.Steps).Concat(method.Rollback.Reclaim).Select(s => s.Name)))
            map.Wrong("steps", $"Method '{method.Name}' has two steps named '{twice}'; an order's name must say which.");
    }

    private static StepSpec StepOf(YamlMap map, KeyRegistry keys, Scripts scripts, ImmutableArray<Reader> readers)
    {
        var kind = map.Word<StepKind>("kind");
        var until = kind is StepKind.WaitUntil or StepKind.Patch ? map.Required("until", keys) : null;
        var typical = map.Duration("typical") ?? TimeSpan.FromMinutes(1);
        var step = new StepSpec(
            map.Text("name"),
            map.Text("title"),
            map.Word<Phase>("phase"),
            kind,
            null,
            typical,
            map.Duration("limit") ?? (typical * 4 > ShortestLimit ? typical * 4 : ShortestLimit),
            map.Whole("attempts", 1),
            map.Flag("point-of-no-return")
        )
        {
            Secrets = [.. map.Texts("secrets")],
            OnSuccessor = IsOnSuccessor(map),
            ResumedBy = kind == StepKind.Suspend ? map.Text("resumed-by") : null,
            Provides = [.. map.Texts("provides")],
            Until = until?.Text,
            Every = kind == StepKind.WaitUntil ? map.Duration("every") ?? UsualEvery : null,
            Suspends = kind == StepKind.Suspend ? map.Text("suspends") : null,
            Rounds = kind == StepKind.Patch ? map.Whole("rounds", UsualRounds) : 0,
            Restarts = kind == StepKind.Patch && map.Flag("restarts"),
            Task = kind == StepKind.AskPerson ? new(map.Text("words"), map.Text("who")) : null,
            With = kind is StepKind.Compare or StepKind.RestoreFiles ? map.Text("with") : null,
            Files = kind == StepKind.SaveFiles ? [.. map.Texts("files")] : [],
            Media = kind == StepKind.FetchMedia ? map.Text("media") : null,
            Rules = kind == StepKind.Compare ? [.. map.Maps("rules").Select(RuleOf)] : [],
        };
        if (step.RunsScript || step.IsReading)
            step = step with { Script = scripts.Named(map, "script") };
        CheckStep(map, step, until, keys, readers);
        map.Done();
        return step;
    }

    private static bool IsOnSuccessor(YamlMap map)
    {
        var on = map.Optional("on");
        if (on is not (null or Successors.Successor))
            map.Wrong("on", $"'{on}' is no machine of a run; expected '{Successors.Successor}', or nothing for the machine itself.");
        return on == Successors.Successor;
    }

    private static void CheckStep(YamlMap map, StepSpec step, Condition? until, KeyRegistry keys, ImmutableArray<Reader> readers)
    {
        if (step.IsReading && (step.PointOfNoReturn || !step.Provides.IsEmpty || !step.Secrets.IsEmpty))
            map.Wrong(
                "kind",
                $"Step '{step.Name}' only lists what the machine has, so it has no 'provides' and 'secrets', and is no point of no return."
            );
        if (step.Kind is StepKind.Patch or StepKind.Suspend or StepKind.Resume)
            CheckScriptKind(map, step);
        var mayBeHere = step.Phase == Phase.Stage || step is { Kind: StepKind.CleanUp, Phase: Phase.Reclaim };
        if (step.Kind is StepKind.FetchMedia or StepKind.CleanUp && (!mayBeHere || step.PointOfNoReturn))
            map.Wrong(
                "phase",
                $"Step '{step.Name}' ({RunMachine.Name(step.Kind)}) only prepares, so it belongs to stage and is no point of no return."
            );
        if (step.Kind == StepKind.SaveFiles && step.Files.IsEmpty)
            map.Wrong("files", $"Step '{step.Name}' names no files; expected their absolute paths.");
        foreach (var odd in step.Files.Where(f => !f.StartsWith('/') || f.Any(c => c is ':' || char.IsControl(c))))
            map.Wrong("files", $"'{odd}' is no path to save; expected an absolute one such as /etc/ssh/*.conf, without a colon.");
        if (step.Kind is StepKind.SaveFiles or StepKind.RestoreFiles && step.PointOfNoReturn)
            map.Wrong("kind", $"Step '{step.Name}' only copies files, so it is no point of no return.");
        if (step is { OnSuccessor: true, Kind: StepKind.AskPerson })
            map.Wrong("on", $"Step '{step.Name}' asks a person, so it is done on no machine; say in its 'words' which one is meant.");
        if (step.IsWaiting && (step.PointOfNoReturn || step.Attempts > 1 || !step.Provides.IsEmpty))
            map.Wrong("kind", $"Step '{step.Name}' only waits, so it has no 'attempts' and 'provides', and is no point of no return.");
        foreach (var key in (until?.Keys ?? []).Where(k => !readers.Any(r => r.Covers.Contains(k))))
            map.Wrong("until", $"Step '{step.Name}' reads '{key}', which no reading script of this product covers.");
        if (step.Every < ShortestEvery)
            map.Wrong("every", $"A machine is read again after {ShortestEvery.TotalSeconds:0} s at the earliest.");
        CheckKeys(map, "provides", step.Provides, keys);
        foreach (var odd in step.Secrets.Where(s => !SecretReference.IsName(s)))
            map.Wrong(
                "secrets",
                $"'{odd}' is no name of a secret. A secret is not written down here but named; it is kept by the service."
            );
        if (!step.RunsScript && !step.Secrets.IsEmpty)
            map.Wrong("secrets", "Only a step with a script can be given secrets.");
        if (step.Phase is not (Phase.Stage or Phase.Protect or Phase.Apply or Phase.Verify or Phase.RollBack or Phase.Reclaim))
            map.Wrong("phase", "A step belongs to stage, protect, apply, verify, roll-back or reclaim.");
        CheckName(map, step.Name, "a step");
    }

    /// <summary>Checks a step whose kind says what its script is for.</summary>
    private static void CheckScriptKind(YamlMap map, StepSpec step)
    {
        if (step.PointOfNoReturn)
            map.Wrong("kind", $"Step '{step.Name}' ({RunMachine.Name(step.Kind)}) can be repeated, so it is no point of no return.");
        if (step.Kind == StepKind.Suspend && step.Phase is not (Phase.Protect or Phase.Apply))
            map.Wrong("phase", $"Step '{step.Name}' suspends something, so it belongs to protect or apply: nothing is suspended for days.");
        if (step.Kind == StepKind.Patch && step.Phase is not (Phase.Protect or Phase.Apply or Phase.Verify))
            map.Wrong("phase", $"Step '{step.Name}' patches, so it belongs to protect, apply or verify: within the machine's slot.");
    }

    private static ComparisonRule RuleOf(YamlMap map)
    {
        var rule = new ComparisonRule(
            map.Optional("of"),
            map.Optional("name"),
            map.Optional("change") is null ? null : map.Word<Change>("change"),
            map.Word<DifferenceResult>("then")
        );
        map.Done();
        return rule;
    }

    private sealed class Scripts(ImmutableSortedDictionary<string, string> files)
    {
        public string Named(YamlMap map, string field)
        {
            var name = map.Text(field);
            if (name.Length > 0 && !files.ContainsKey(name))
                map.Wrong(field, $"There is no script '{name}' beside product.yaml{Near(name, files.Keys)}.");
            return name;
        }
    }
}
