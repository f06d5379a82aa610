namespace GrandStair.Core.Readings;

/// <summary>What type of value a reading key holds. A key has one kind for ever.</summary>
public enum ValueKind
{
    /// <summary>Free text; compared without regard to case.</summary>
    Text,

    /// <summary>True or false, written <c>yes</c>, <c>no</c>, <c>on</c>, <c>off</c>, <c>true</c> or <c>false</c>.</summary>
    Flag,

    /// <summary>A plain number without a unit.</summary>
    Number,

    /// <summary>
    /// An amount of data in bytes, written with B, kB, MB, GB, TB (powers of 1000) or KiB, MiB, GiB, TiB (powers of 1024).
    /// </summary>
    Size,

    /// <summary>A length of time in seconds, written with s, min, h, d or w.</summary>
    Duration,

    /// <summary>A speed of a line in bits per second, written with bit/s, kbit/s, Mbit/s or Gbit/s.</summary>
    Rate,

    /// <summary>A version, ordered by <see cref="VersionOrder"/>.</summary>
    Version,

    /// <summary>A calendar day, written as ISO 8601 <c>2027-03-31</c>.</summary>
    Date,

    /// <summary>A moment in UTC, written as ISO 8601 <c>2027-03-31T18:00:00Z</c>.</summary>
    Instant,

    /// <summary>Several texts, written with commas between them. A comparison holds when it holds for one of them.</summary>
    List,

    /// <summary>
    /// Records of one shape, such as applications, devices or services; replaced whole by each report. Conditions reach into it with
    /// <c>has</c>.
    /// </summary>
    Table,
}
