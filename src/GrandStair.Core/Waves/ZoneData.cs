using NodaTime.TimeZones;

namespace GrandStair.Core.Waves;

/// <summary>The time zone data in use.</summary>
public static class ZoneData
{
    /// <summary>Its version in the IANA time zone database, such as <c>2026a</c>.</summary>
    public static string Version => TzdbDateTimeZoneSource.Default.TzdbVersion;
}
