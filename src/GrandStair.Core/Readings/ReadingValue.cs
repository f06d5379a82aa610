using System.Collections.Immutable;
using System.Globalization;

namespace GrandStair.Core.Readings;

/// <summary>A typed value that was seen under a key.</summary>
public sealed record ReadingValue
{
    /// <summary>The longest text or list, in characters.</summary>
    public const int LongestText = 1 << 16;

    private const int LongestVersion = 200;
    private const int RowsShown = 3;

    private ReadingValue(ValueKind kind, string text, double amount, ImmutableArray<string> items)
    {
        Kind = kind;
        Text = text;
        Amount = amount;
        Items = items;
    }

    private ReadingValue(ImmutableArray<TableRow> rows)
        : this(ValueKind.Table, $"[{string.Join(',', rows.Select(r => r.Text))}]", 0, []) => Rows = rows;

    /// <summary>The type of the value.</summary>
    public ValueKind Kind { get; }

    /// <summary>The value as text that <see cref="Parse"/> reads back to an equal value.</summary>
    public string Text { get; }

    /// <summary>
    /// Bytes, seconds, bits per second, the number itself, 1 or 0 of a flag, or the seconds since 1970-01-01 UTC of a
    /// date or an instant. Zero for texts, versions and lists.
    /// </summary>
    public double Amount { get; }

    /// <summary>The texts of a list; empty for every other kind.</summary>
    public ImmutableArray<string> Items { get; }

    /// <summary>The rows of a table, in the order in which they were reported; empty for every other kind.</summary>
    public ImmutableArray<TableRow> Rows { get; } = [];

    /// <summary>A table.</summary>
    public static ReadingValue Of(ImmutableArray<TableRow> rows) => new(rows);

    /// <summary>
    /// Reads a value of the given kind; of a table only its form, since its columns are its key's (<see cref="KeyDefinition.Parse"/>).
    /// </summary>
    /// <param name="error">What was expected, where the text is not such a value.</param>
    public static ReadingValue? Parse(ValueKind kind, string text, out string? error)
    {
        ArgumentNullException.ThrowIfNull(text);
        text = text.Trim();
        error = null;
        switch (kind)
        {
            case ValueKind.Text when text.Length <= LongestText:
                return new(kind, text, 0, []);
            case ValueKind.Version when text.Length <= LongestVersion && text.Any(char.IsAsciiDigit):
                return new(kind, text, 0, []);
            case ValueKind.Flag when FlagOf(text) is { } flag:
                return new(kind, flag ? "yes" : "no", flag ? 1 : 0, []);
            case ValueKind.Number
                when double.TryParse(text, NumberStyles.Float, CultureInfo.InvariantCulture, out var number) && double.IsFinite(number):
                return new(kind, number.ToString("R", CultureInfo.InvariantCulture), number, []);
            case ValueKind.Size or ValueKind.Duration or ValueKind.Rate when Units.Parse(text, kind) is { } amount:
                return new(kind, Units.Exact(amount, kind), amount, []);
            case ValueKind.Date
                when DateOnly.TryParseExact(text, "yyyy-MM-dd", CultureInfo.InvariantCulture, DateTimeStyles.None, out var date)
                    && Era.Holds(date):
                return new(kind, text, new DateTimeOffset(date, default, default).ToUnixTimeSeconds(), []);
            case ValueKind.Instant when TryInstant(text, out var instant):
                return new(kind, instant.ToString("yyyy-MM-ddTHH:mm:ssZ", CultureInfo.InvariantCulture), instant.ToUnixTimeSeconds(), []);
            case ValueKind.List when text.Length <= LongestText:
                ImmutableArray<string> items = [.. text.Split(',', StringSplitOptions.TrimEntries | StringSplitOptions.RemoveEmptyEntries)];
                return new(kind, string.Join(", ", items), 0, items);
            case ValueKind.Table when TableRow.ParseAll(text, out _) is { } rows:
                return new(rows);
            default:
                error = Expected(kind);
                return null;
        }
    }

    /// <summary>The value as a person reads it: <c>41 GiB</c> in place of <c>44023414784 B</c>.</summary>
    public string Show() =>
        Kind switch
        {
            ValueKind.Size or ValueKind.Duration or ValueKind.Rate => Units.Show(Amount, Kind),
            ValueKind.Instant => DateTimeOffset
                .FromUnixTimeSeconds((long)Amount)
                .ToString("yyyy-MM-dd HH:mm 'UTC'", CultureInfo.InvariantCulture),
            ValueKind.List when Items.IsEmpty => "none",
            ValueKind.Table when Rows.IsEmpty => "none",
            ValueKind.Table => $"{Rows.Length}: {string.Join("; ", Rows.Take(RowsShown).Select(r => r.Show()))}"
                + (Rows.Length > RowsShown ? "; …" : ""),
            _ => Text,
        };

    /// <inheritdoc />
    public bool Equals(ReadingValue? other) =>
        other is not null
        && Kind == other.Kind
        && (
            Kind == ValueKind.Version
                ? VersionOrder.Instance.Compare(Text, other.Text) == 0
                : string.Equals(Text, other.Text, StringComparison.OrdinalIgnoreCase)
        );

    /// <inheritdoc />
    public override int GetHashCode() => Kind.GetHashCode();

    /// <summary>What a text of this kind has to look like, for an error.</summary>
    public static string Expected(ValueKind kind) =>
        kind switch
        {
            ValueKind.Flag => "yes or no",
            ValueKind.Number => "a number without a unit, such as 4",
            ValueKind.Size => $"a number with one of the units {string.Join(", ", Units.Of(kind))}, such as 64 GiB",
            ValueKind.Duration => $"a number with one of the units {string.Join(", ", Units.Of(kind))}, such as 7 d",
            ValueKind.Rate => $"a number with one of the units {string.Join(", ", Units.Of(kind))}, such as 40 Mbit/s",
            ValueKind.Version => "a version with a digit in it, such as 6.4",
            ValueKind.Table => TableRow.Form,
            ValueKind.Date => "a day such as 2027-03-31",
            ValueKind.Instant => "a moment with its zone, such as 2027-03-31T18:00:00Z",
            _ => $"a text of at most {LongestText} characters",
        };

    private static bool? FlagOf(string text) =>
        text.ToUpperInvariant() switch
        {
            "YES" or "TRUE" or "ON" or "1" => true,
            "NO" or "FALSE" or "OFF" or "0" => false,
            _ => null,
        };

    private static bool TryInstant(string text, out DateTimeOffset instant)
    {
        instant = default;
        var zoned = text.EndsWith('Z') || (text.Length > 6 && text[^6] is '+' or '-' && text[^3] == ':');
        return zoned
            && DateTimeOffset.TryParse(text, CultureInfo.InvariantCulture, DateTimeStyles.AdjustToUniversal, out instant)
            && Era.Holds(instant);
    }
}
