using System.Collections.Immutable;
using System.Globalization;
using GrandStair.Core.Conditions;
using GrandStair.Core.Readings;

namespace GrandStair.Core.Catalogue;

/// <summary>What is known of one product: its releases, the hops between them, the checks and the methods.</summary>
public sealed record Product
{
    /// <summary>The product's name as machines report it, such as <c>Debian</c>.</summary>
    public required string Name { get; init; }

    /// <summary>The SHA-256 of the content in hexadecimal: the same hash is the same content for ever.</summary>
    public required string Hash { get; init; }

    /// <summary>Which machines run it.</summary>
    public required Condition Is { get; init; }

    /// <summary>The key with the release that a machine runs.</summary>
    public required string VersionKey { get; init; }

    /// <summary>The key with the edition; null where the product has none.</summary>
    public string? EditionKey { get; init; }

    /// <summary>The key with the build; null where builds are not distinguished.</summary>
    public string? BuildKey { get; init; }

    /// <summary>The time zone in which the vendor's days are meant, by its name in the IANA database.</summary>
    public string Zone { get; init; } = "UTC";

    /// <summary>The editions; empty where the product has none.</summary>
    public ImmutableArray<string> Editions { get; init; } = [];

    /// <summary>The components in the order in which they are upgraded; empty for a simple machine.</summary>
    public ImmutableArray<Component> Components { get; init; } = [];

    /// <summary>What is wrong in releases.</summary>
    public ImmutableArray<KnownIssue> KnownIssues { get; init; } = [];

    /// <summary>The keys that this product adds.</summary>
    public ImmutableArray<KeyDefinition> Keys { get; init; } = [];

    /// <summary>Scripts that read a machine.</summary>
    public ImmutableArray<Reader> Readers { get; init; } = [];

    /// <summary>The releases, oldest first.</summary>
    public ImmutableArray<Release> Releases { get; init; } = [];

    /// <summary>The supported steps between releases.</summary>
    public ImmutableArray<Hop> Hops { get; init; } = [];

    /// <summary>The methods by which hops are done.</summary>
    public ImmutableArray<Method> Methods { get; init; } = [];

    /// <summary>The media that its methods install from.</summary>
    public ImmutableArray<Media> Media { get; init; } = [];

    /// <summary>The content of every script, by its file name.</summary>
    public ImmutableDictionary<string, string> Scripts { get; init; } = ImmutableDictionary<string, string>.Empty;

    /// <summary>The known issues that touch a machine, or may touch it as far as is known.</summary>
    public ImmutableArray<KnownIssue> IssuesTouching(IReadable machine, DateTimeOffset now) =>
        [.. KnownIssues.Where(i => i.Touches.Ask(machine, new EvaluationContext(now)).Value != Kleene.No)];

    /// <summary>
    /// The checks of one leg of a run that is running, with those of the machine's known issues and, for the verification, of its build.
    /// </summary>
    /// <param name="hop">The leg's hop.</param>
    /// <param name="method">The leg's method.</param>
    /// <param name="machine">The machine.</param>
    /// <param name="now">The time, UTC.</param>
    /// <param name="leastBuild">The first build of the hop's release that will do; null for any.</param>
    public ImmutableArray<Check> ChecksOf(Hop hop, Method method, Machine machine, DateTimeOffset now, string? leastBuild)
    {
        ArgumentNullException.ThrowIfNull(hop);
        ArgumentNullException.ThrowIfNull(method);
        var touching = IssuesTouching(machine, now);
        ImmutableArray<Check> checks = [.. ChecksOf(hop, touching, leastBuild), .. method.Checks];
        return hop.Component is null && BuildOf(hop, touching, leastBuild) is { } build && BuildCheck(build) is { } check
            ? checks.Add(check)
            : checks;
    }

    /// <summary>The build of a hop's release that a machine should get; null where any will do.</summary>
    public string? BuildOf(Hop hop, IReadOnlyList<KnownIssue> touching, string? leastBuild)
    {
        ArgumentNullException.ThrowIfNull(hop);
        return hop.Component is null ? IssuesAhead.Of(Release(hop.To), touching, leastBuild).Build : null;
    }

    /// <summary>A hop's checks and those that the known issues of its release come to.</summary>
    internal ImmutableArray<Check> ChecksOf(Hop hop, IReadOnlyList<KnownIssue> touching, string? leastBuild) =>
        hop.Component is not null || touching.Count == 0
            ? hop.Checks
            : [.. hop.Checks, .. IssuesAhead.Of(Release(hop.To), touching, leastBuild).Left.Select(i => i.AsCheck)];

    private Check? BuildCheck(string build)
    {
        if (BuildKey is not { } key || Keys.Concat(KeyRegistry.BuiltIn.All).FirstOrDefault(k => k.Name == key) is not { } definition)
            return null;
        var wants = string.Create(CultureInfo.InvariantCulture, $"{key} >= {build}");
        return new()
        {
            Name = "build",
            Title = $"Build {build} or later",
            Need = Need.Must,
            Wants = ConditionParser.Parse(wants, KeyRegistry.BuiltIn.With([definition])),
            AskedAt = [Moment.Verification],
            Fix = new(FixedBy.Person, "Install the patches of the new release until none is left, then try again.", null),
        };
    }

    /// <summary>The release of exactly that version.</summary>
    /// <exception cref="InvalidOperationException">There is none.</exception>
    public Release Release(string version) => Releases.Single(r => r.Version == version);

    /// <summary>The release that a version belongs to: <c>11.11</c> is of release <c>11</c>. Null where none is known.</summary>
    public Release? ReleaseOf(string? version) =>
        version is null
            ? null
            : Releases
                .Where(r => version == r.Version || version.StartsWith(r.Version + ".", StringComparison.Ordinal))
                .MaxBy(r => r.Version.Length);

    /// <summary>The method of that name, or null.</summary>
    public Method? Method(string name) => Methods.FirstOrDefault(m => m.Name == name);
}

/// <summary>
/// A script that reads a machine and prints one line a key: <c>key = value</c>, <c>key is absent</c> or <c>key is unreadable: why</c>.
/// </summary>
/// <param name="Script">The script's file name.</param>
/// <param name="Covers">The keys that it looks at: covered but not reported is absent.</param>
public sealed record Reader(string Script, ImmutableArray<string> Covers);

/// <summary>A supported step from some releases to one other.</summary>
/// <param name="Name">The hop's name, such as <c>11-to-12</c>.</param>
/// <param name="From">The releases that it starts from.</param>
/// <param name="To">The release that it leads to.</param>
/// <param name="Editions">Which edition becomes which; empty where editions are not distinguished.</param>
/// <param name="Checks">What must or should hold, whatever the method.</param>
public sealed record Hop(
    string Name,
    ImmutableArray<string> From,
    string To,
    ImmutableDictionary<string, string> Editions,
    ImmutableArray<Check> Checks
)
{
    /// <summary>The component that it raises, and whose versions it goes from and to; null for the product itself.</summary>
    public string? Component { get; init; }

    /// <summary>What a machine has after it besides the version and edition, such as a firmware or a mode, by key.</summary>
    public ImmutableDictionary<string, ReadingValue> Brings { get; init; } = ImmutableDictionary<string, ReadingValue>.Empty;
}

/// <summary>A component of a machine with a version of its own.</summary>
/// <param name="Name">Its name within its product, such as <c>firmware</c>.</param>
/// <param name="Title">What people call it.</param>
/// <param name="VersionKey">The key with its version. The component whose key is the product's own stands for the product itself.</param>
public sealed record Component(string Name, string Title, string VersionKey);
