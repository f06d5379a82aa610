using System.Collections.Immutable;
using GrandStair.Core.Conditions;

namespace GrandStair.Core.Catalogue;

/// <summary>Whether a release is to be taken.</summary>
public enum ReleaseStatus
{
    /// <summary>It is available.</summary>
    Available,

    /// <summary>It is the one to take.</summary>
    Recommended,

    /// <summary>It is out, and offered to some machines only, more of them day by day.</summary>
    PhasedIn,

    /// <summary>It was taken back and is no target.</summary>
    Withdrawn,
}

/// <summary>A state of a release as it is handed out: the release with the fixes up to a day.</summary>
/// <param name="Version">The build's version, which begins with the release's.</param>
/// <param name="Out">The day on which it came out; null where it is not known.</param>
/// <param name="Notes">What it brings, for people; empty for nothing worth saying.</param>
public sealed record Build(string Version, DateOnly? Out, string Notes);

/// <summary>What a person has to have read before machines go to a release.</summary>
/// <param name="Name">Its name within the release.</param>
/// <param name="Title">What it is about.</param>
/// <param name="Words">The text itself.</param>
public sealed record MustRead(string Name, string Title, string Words);

/// <summary>The terms of a licence, which somebody accepts before machines go to a release.</summary>
/// <param name="Name">Their name within the release.</param>
/// <param name="Title">What they are called.</param>
/// <param name="File">The file beside <c>product.yaml</c> that has the text.</param>
/// <param name="Text">The text itself.</param>
public sealed record LicenceTerms(string Name, string Title, string File, string Text);

/// <summary>A major version of a product.</summary>
/// <param name="Version">The version, which every build of it begins with.</param>
/// <param name="Name">What people call it.</param>
/// <param name="Status">Whether it is to be taken.</param>
/// <param name="SupportEnds">The last day of support by edition, in the vendor's zone; the edition <c>*</c> stands for all others.</param>
public sealed record Release(string Version, string Name, ReleaseStatus Status, ImmutableDictionary<string, DateOnly> SupportEnds)
{
    /// <summary>The day on which it came out; null where it is not known.</summary>
    public DateOnly? Out { get; init; }

    /// <summary>Its builds, oldest first; empty where they are not distinguished.</summary>
    public ImmutableArray<Build> Builds { get; init; } = [];

    /// <summary>The machines that it is offered to while it is phased in; null where that is not known.</summary>
    public Condition? OfferedTo { get; init; }

    /// <summary>What a person has to have read before machines go to it.</summary>
    public ImmutableArray<MustRead> MustReads { get; init; } = [];

    /// <summary>The licence terms that somebody accepts for the machines that go to it, once for each plan.</summary>
    public ImmutableArray<LicenceTerms> Terms { get; init; } = [];

    /// <summary>The least version of every component that it needs, by the component's name.</summary>
    public ImmutableDictionary<string, string> Components { get; init; } = ImmutableDictionary<string, string>.Empty;

    /// <summary>The last day of support of an edition; null where none is known.</summary>
    public DateOnly? SupportEnd(string? edition) =>
        edition is not null && SupportEnds.TryGetValue(edition, out var end) ? end
        : SupportEnds.TryGetValue("*", out var all) ? all
        : null;
}
