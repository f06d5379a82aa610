using System.Collections.Immutable;

namespace GrandStair.Core.Access;

/// <summary>The sites whose machines an account sees: all, or some. Machines at other sites, or at none, do not exist for it.</summary>
public sealed class SiteScope : IEquatable<SiteScope>
{
    private const string Everywhere = "*";
    private readonly ImmutableSortedSet<string>? _sites;

    private SiteScope(ImmutableSortedSet<string>? sites) => _sites = sites;

    /// <summary>Every site, and machines of which no site is known.</summary>
    public static SiteScope All { get; } = new(null);

    /// <summary>Whether it is every site.</summary>
    public bool IsAll => _sites is null;

    /// <summary>The names of the sites; <c>*</c> alone for all of them.</summary>
    public ImmutableArray<string> Names => _sites is null ? [Everywhere] : [.. _sites];

    /// <summary>Reads the names of sites; <c>*</c> is all of them.</summary>
    /// <exception cref="FormatException">A name is empty or longer than 100 signs.</exception>
    public static SiteScope Of(IEnumerable<string> names)
    {
        ArgumentNullException.ThrowIfNull(names);
        var sites = names.Select(n => n.Trim()).ToImmutableSortedSet(StringComparer.OrdinalIgnoreCase);
        if (sites.Contains(Everywhere))
            return All;
        return sites.Any(s => s.Length is 0 or > 100)
            ? throw new FormatException("A site's name has 1 to 100 signs; '*' means all sites.")
            : new(sites);
    }

    /// <summary>Whether machines at a site may be seen.</summary>
    public bool Holds(string site) => _sites is null || _sites.Contains(site);

    /// <summary>Whether it holds every site of another scope.</summary>
    public bool Covers(SiteScope other)
    {
        ArgumentNullException.ThrowIfNull(other);
        return _sites is null || (other._sites is { } sites && sites.IsSubsetOf(_sites));
    }

    /// <summary>The sites that are in both.</summary>
    public SiteScope Within(SiteScope other)
    {
        ArgumentNullException.ThrowIfNull(other);
        return _sites is null ? other
            : other._sites is null ? this
            : new(_sites.Intersect(other._sites));
    }

    /// <inheritdoc />
    public bool Equals(SiteScope? other) =>
        other is not null && (_sites is null ? other._sites is null : other._sites is not null && _sites.SetEquals(other._sites));

    /// <inheritdoc />
    public override bool Equals(object? obj) => Equals(obj as SiteScope);

    /// <inheritdoc />
    public override int GetHashCode() =>
        _sites is null ? 1 : _sites.Aggregate(0, (sum, s) => sum ^ StringComparer.OrdinalIgnoreCase.GetHashCode(s));

    /// <inheritdoc />
    public override string ToString() => string.Join(", ", Names);
}
