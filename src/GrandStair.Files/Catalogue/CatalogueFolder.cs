using System.Collections.Immutable;
using System.Security.Cryptography;
using System.Text;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Readings;
using GrandStair.Core.Runs;
using GrandStair.Files.Yaml;

namespace GrandStair.Files.Catalogue;

/// <summary>Reads a product's folder of the catalogue: <c>product.yaml</c> and the scripts that it names.</summary>
public static class CatalogueFolder
{
    // A step of a minute may well take ten on a busy machine; nobody needs to be asked before that.
    private static readonly TimeSpan ShortestLimit = TimeSpan.FromMinutes(30);
    private const string ProductFile = "product.yaml";

    /// <summary>Reads all files of a folder, by name.</summary>
    public static ImmutableSortedDictionary<string, string> Load(string folder) =>
        Directory.EnumerateFiles(folder).ToImmutableSortedDictionary(f => Path.GetFileName(f), File.ReadAllText, StringComparer.Ordinal);

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

    /// <summary>Understands a product's files.</summary>
    /// <param name="files">The files' contents by name.</param>
    /// <param name="keys">The known keys; the product's own come on top.</param>
    /// <param name="where">What to call <c>product.yaml</c> in errors.</param>
    /// <exception cref="FileException">Something is wrong in them; all of it is told, with line and column.</exception>
    public static Product Parse(ImmutableSortedDictionary<string, string> files, KeyRegistry keys, string where = ProductFile)
    {
        ArgumentNullException.ThrowIfNull(files);
        if (!files.TryGetValue(ProductFile, out var text)) throw new FileException([new(where, 1, 0, "The file is missing; a product's folder has a product.yaml.")]);
        var problems = new Problems(where);
        var map = YamlMap.Read(text, problems);
        var own = map.Maps("keys").Select(k =>
        {
            var key = new KeyDefinition(k.Text("key"), k.Word<ValueKind>("kind"), k.Text("meaning"));
            k.Done();
            return key;
        }).ToImmutableArray();
        try
        {
            keys = keys.With(own);
        }
        catch (ArgumentException error)
        {
            map.Wrong("keys", error.Message);
        }

        var scripts = new Scripts(files);
        var product = new Product
        {
            Name = map.Text("product"),
            Hash = Hash(files),
            Is = map.Required("is", keys),
            VersionKey = map.Text("version-key"),
            EditionKey = map.Optional("edition-key"),
            Keys = own,
            Readers = [.. map.Maps("readers").Select(r => Reader(r, scripts, keys))],
            Releases = [.. map.Maps("releases").Select(ReleaseOf)],
            Hops = [.. map.Maps("hops").Select(h => HopOf(h, keys))],
            Methods = [.. map.Maps("methods").Select(m => MethodOf(m, keys, scripts))],
            Scripts = files.Remove(ProductFile).ToImmutableDictionary(),
        };
        map.Done();
        foreach (var hop in product.Hops.Where(h => product.Releases.All(r => r.Version != h.To)))
            map.Wrong("hops", $"Hop '{hop.Name}' leads to '{hop.To}', which is no release of this file.");
        foreach (var method in product.Methods)
            foreach (var hop in method.Hops.Where(h => product.Hops.All(p => p.Name != h)))
                map.Wrong("methods", $"Method '{method.Name}' does hop '{hop}', which is not in this file.");
        problems.ThrowIfAny();
        return product;
    }

    private static Reader Reader(YamlMap map, Scripts scripts, KeyRegistry keys)
    {
        var reader = new Reader(scripts.Named(map, "script"), [.. map.Texts("covers")]);
        foreach (var key in reader.Covers.Where(k => keys.Find(k) is null))
            map.Wrong("covers", $"There is no key '{key}'{(keys.Nearest(key) is { } near ? $"; did you mean '{near}'?" : "; declare it under 'keys'.")}");
        map.Done();
        return reader;
    }

    private static Release ReleaseOf(YamlMap map)
    {
        var ends = ImmutableDictionary.CreateBuilder<string, DateOnly>();
        foreach (var (edition, date) in map.Pairs("support-ends"))
        {
            if (DateOnly.TryParse(date, System.Globalization.CultureInfo.InvariantCulture, out var end)) ends[edition] = end;
            else map.Wrong("support-ends", $"'{date}' is no day; expected one such as 2027-03-31.");
        }

        var release = new Release(map.Text("version"), map.Text("name"), map.Word("status", ReleaseStatus.Available), ends.ToImmutable());
        map.Done();
        return release;
    }

    private static Hop HopOf(YamlMap map, KeyRegistry keys)
    {
        var hop = new Hop(map.Text("name"), [.. map.Texts("from")], map.Text("to"), map.Pairs("editions").ToImmutableDictionary(), Checks(map, keys));
        map.Done();
        return hop;
    }

    private static ImmutableArray<Check> Checks(YamlMap map, KeyRegistry keys) => [.. map.Maps("checks").Select(c => CheckOf(c, keys))];

    private static Check CheckOf(YamlMap map, KeyRegistry keys)
    {
        var fix = map.Map("fix");
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
            Fix = new(fix.Word<Mender>("by"), fix.Text("words"), fix.Duration("takes")),
        };
        fix.Done();
        map.Done();
        return check;
    }

    private static Method MethodOf(YamlMap map, KeyRegistry keys, Scripts scripts)
    {
        var rollback = map.Map("rollback");
        var method = new Method
        {
            Name = map.Text("name"),
            Title = map.Text("title"),
            Hops = [.. map.Texts("hops")],
            Suits = map.Condition("suits", keys),
            Carries = map.Word<Carries>("carries"),
            Checks = Checks(map, keys),
            Steps = [.. map.Maps("steps").Select(s => StepOf(s, scripts))],
            Rollback = new(rollback.Text("words"), rollback.Duration("lasts") ?? TimeSpan.Zero, [.. rollback.Maps("steps").Select(s => StepOf(s, scripts))]),
        };
        rollback.Done();
        map.Done();
        if (method.Steps.Count(s => s.TurningPoint) != 1) map.Wrong("steps", $"Method '{method.Name}' must have one step with 'turning-point: true', and has {method.Steps.Count(s => s.TurningPoint)}.");
        foreach (var twice in method.Steps.Concat(method.Rollback.Steps).GroupBy(s => s.Name).Where(g => g.Count() > 1))
            map.Wrong("steps", $"Method '{method.Name}' has two steps named '{twice.Key}'; an order's name must say which.");
        return method;
    }

    private static StepSpec StepOf(YamlMap map, Scripts scripts)
    {
        var kind = map.Word<StepKind>("kind");
        var typical = map.Duration("typical") ?? TimeSpan.FromMinutes(1);
        var step = new StepSpec(
            map.Text("name"),
            map.Text("title"),
            map.Word<Phase>("phase"),
            kind,
            kind == StepKind.Script ? scripts.Named(map, "script") : null,
            typical,
            map.Duration("limit") ?? (typical * 4 > ShortestLimit ? typical * 4 : ShortestLimit),
            map.Whole("attempts", 1),
            map.Optional("turning-point") == "true");
        if (step.Phase is not (Phase.Stage or Phase.Guard or Phase.Apply or Phase.Prove or Phase.RollBack))
            map.Wrong("phase", "A step belongs to stage, guard, apply, prove or roll-back.");
        if (step.Name.Any(c => !char.IsAsciiLetterOrDigit(c) && c != '-'))
            map.Wrong("name", $"'{step.Name}' is no name of a step; expected letters, digits and hyphens.");
        map.Done();
        return step;
    }

    private sealed class Scripts(ImmutableSortedDictionary<string, string> files)
    {
        public string Named(YamlMap map, string field)
        {
            var name = map.Text(field);
            if (name.Length > 0 && !files.ContainsKey(name))
                map.Wrong(field, $"There is no script '{name}' beside product.yaml{(Spelling.Nearest(name, files.Keys) is { } near ? $"; did you mean '{near}'?" : "")}.");
            return name;
        }
    }
}
