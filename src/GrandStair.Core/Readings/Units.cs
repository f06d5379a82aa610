using System.Globalization;

namespace GrandStair.Core.Readings;

/// <summary>
/// The units that values and conditions may be written in. GB is a power of 1000, GiB one of 1024 (IEC 80000-13). Case is ignored.
/// </summary>
public static class Units
{
    private static readonly Dictionary<string, (ValueKind Kind, double Factor)> Known = new(StringComparer.OrdinalIgnoreCase)
    {
        ["B"] = (ValueKind.Size, 1),
        ["kB"] = (ValueKind.Size, 1e3),
        ["MB"] = (ValueKind.Size, 1e6),
        ["GB"] = (ValueKind.Size, 1e9),
        ["TB"] = (ValueKind.Size, 1e12),
        ["KiB"] = (ValueKind.Size, 1L << 10),
        ["MiB"] = (ValueKind.Size, 1L << 20),
        ["GiB"] = (ValueKind.Size, 1L << 30),
        ["TiB"] = (ValueKind.Size, 1L << 40),
        ["s"] = (ValueKind.Duration, 1),
        ["min"] = (ValueKind.Duration, 60),
        ["h"] = (ValueKind.Duration, 3600),
        ["d"] = (ValueKind.Duration, 86400),
        ["w"] = (ValueKind.Duration, 604800),
        ["bit/s"] = (ValueKind.Rate, 1),
        ["kbit/s"] = (ValueKind.Rate, 1e3),
        ["Mbit/s"] = (ValueKind.Rate, 1e6),
        ["Gbit/s"] = (ValueKind.Rate, 1e9),
    };

    /// <summary>The units of a kind, smallest first, as they are listed in an error.</summary>
    public static IEnumerable<string> Of(ValueKind kind) => Known.Where(u => u.Value.Kind == kind).Select(u => u.Key);

    /// <summary>Whether the text names a unit at all.</summary>
    public static bool IsUnit(string text) => Known.ContainsKey(text);

    /// <summary>Reads a number with a unit of the kind. A bare <c>0</c> needs none.</summary>
    /// <returns>The amount in bytes, seconds or bits per second; null where the text is not one.</returns>
    public static double? Parse(string text, ValueKind kind)
    {
        var split = 0;
        while (
            split < text.Length && (char.IsAsciiDigit(text[split]) || text[split] is '.' or '-' or '+' || (text[split] == 'E' && split > 0))
        )
            split++;
        if (!double.TryParse(text[..split], NumberStyles.Float, CultureInfo.InvariantCulture, out var number))
            return null;
        var unit = text[split..].Trim();
        if (unit.Length == 0)
            return number == 0 ? 0 : null;
        return Known.TryGetValue(unit, out var found) && found.Kind == kind && Math.Abs(number * found.Factor) <= Largest(kind)
            ? number * found.Factor
            : null;
    }

    /// <summary>The largest amount of a kind: a century in seconds, or what a double still counts one by one.</summary>
    private static double Largest(ValueKind kind) => kind == ValueKind.Duration ? TimeSpan.FromDays(36_525).TotalSeconds : 1L << 53;

    /// <summary>Writes an amount in the largest unit that people use for it: <c>41 GiB</c>, <c>3 h</c>, <c>40 Mbit/s</c>.</summary>
    public static string Show(double amount, ValueKind kind)
    {
        // People count days up to months, and data in powers of 1024.
        var units = Known
            .Where(u =>
                u.Value.Kind == kind
                && u.Key != "w"
                && (kind != ValueKind.Size || u.Key == "B" || u.Key.Contains('i', StringComparison.Ordinal))
            )
            .OrderByDescending(u => u.Value.Factor);
        foreach (var (unit, (_, factor)) in units)
        {
            if (Math.Abs(amount) >= factor)
                return $"{(amount / factor).ToString("0.#", CultureInfo.InvariantCulture)} {unit}";
        }

        return kind switch
        {
            ValueKind.Duration => "0 s",
            ValueKind.Rate => "0 bit/s",
            _ => $"{amount.ToString("0", CultureInfo.InvariantCulture)} B",
        };
    }

    /// <summary>Writes an amount without loss in the base unit (<c>44023414784 B</c>), so that it reads back the same.</summary>
    public static string Exact(double amount, ValueKind kind)
    {
        var unit = kind switch
        {
            ValueKind.Size => "B",
            ValueKind.Duration => "s",
            _ => "bit/s",
        };
        return $"{amount.ToString("R", CultureInfo.InvariantCulture)} {unit}";
    }
}
