using System.Collections.Immutable;
using GrandStair.Core.Conditions;
using GrandStair.Core.Readings;

namespace GrandStair.Core.Catalogue;

/// <summary>Something wrong in builds of a release that some machines suffer from.</summary>
public sealed record KnownIssue
{
    /// <summary>Its name within its product.</summary>
    public required string Name { get; init; }

    /// <summary>What is wrong, for people.</summary>
    public required string Title { get; init; }

    /// <summary>The release that has it.</summary>
    public required string Release { get; init; }

    /// <summary>Whether a machine that it touches must not get it, or should not.</summary>
    public required Need Need { get; init; }

    /// <summary>Which machines it affects. Where that is unknown, it counts as affected.</summary>
    public required Condition Touches { get; init; }

    /// <summary>The first build that has it; null for all from the first.</summary>
    public string? Since { get; init; }

    /// <summary>The first build in which it is fixed; null where it is in none.</summary>
    public string? FixedIn { get; init; }

    /// <summary>How one gets by with it, or who can help.</summary>
    public required Fix Fix { get; init; }

    /// <summary>Whether a person may decide to go in spite of it, where it is a must.</summary>
    public bool Waivable { get; init; }

    /// <summary>Whether a build has it.</summary>
    public bool IsIn(string build) =>
        (Since is null || VersionOrder.Instance.Compare(build, Since) >= 0)
        && (FixedIn is null || VersionOrder.Instance.Compare(build, FixedIn) < 0);

    /// <summary>The check that it becomes for a machine that it affects and that no build spares.</summary>
    public Check AsCheck =>
        new()
        {
            Name = $"issue-{Name}",
            Title = Title,
            Need = Need,
            Wants = new Not($"not ({Touches.Text})", Touches),
            Fix = Fix,
            Waivable = Waivable,
            IsKnownIssue = true,
        };
}

/// <summary>The known issues of a release for one machine: which build to take, and what is left in it.</summary>
/// <param name="Build">The first build that will do and spares this machine every must; null where any build will do or none is
/// known.</param>
/// <param name="Left">The issues that touch the machine in that build, or in every one.</param>
public sealed record IssuesAhead(string? Build, ImmutableArray<KnownIssue> Left)
{
    /// <summary>Looks ahead.</summary>
    /// <param name="release">The release to go to.</param>
    /// <param name="touching">The known issues that touch the machine, of any release.</param>
    /// <param name="leastBuild">The first build of the release that will do; null for any.</param>
    public static IssuesAhead Of(Release release, IEnumerable<KnownIssue> touching, string? leastBuild = null)
    {
        ArgumentNullException.ThrowIfNull(release);
        var issues = touching.Where(i => i.Release == release.Version).ToArray();
        if (issues.Length == 0)
            return new(leastBuild, []);
        var builds = release
            .Builds.Select(b => b.Version)
            .Concat(issues.Select(i => i.FixedIn))
            .Append(leastBuild)
            .OfType<string>()
            .Distinct()
            .Where(b => leastBuild is null || VersionOrder.Instance.Compare(b, leastBuild) >= 0)
            .Order(VersionOrder.Instance)
            .ToArray();
        if (builds.Length == 0)
            return new(null, [.. issues]);
        // Musts that every build has say nothing about which build to take.
        var musts = issues.Where(i => i.Need == Need.Must && !builds.All(i.IsIn)).ToArray();
        var build = musts.Length > 0 ? builds.MinBy(b => musts.Count(i => i.IsIn(b))) : leastBuild;
        return new(build, [.. issues.Where(i => build is null ? builds.All(i.IsIn) : i.IsIn(build))]);
    }
}
