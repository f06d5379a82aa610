using System.Collections.Immutable;
using System.Globalization;
using System.Text.RegularExpressions;
using GrandStair.Core.Readings;
using NodaTime;

namespace GrandStair.Files.Fleet;

/// <summary>How the cells of a foreign column are written.</summary>
/// <param name="Unit">The unit of its plain numbers; null where cells have their own.</param>
/// <param name="Format">The pattern of its days or times, such as <c>dd/MM/yyyy HH:mm</c>; null for ISO 8601.</param>
/// <param name="Zone">The time zone of times without an offset; null where they have one.</param>
/// <param name="Decimal">The character before decimals, <c>.</c> or <c>,</c>; the other one then separates thousands. Null where nobody
/// said.</param>
/// <param name="Values">What its texts mean, case ignored; a text that is not among them means itself.</param>
public sealed partial record CellForm(
    string? Unit = null,
    string? Format = null,
    DateTimeZone? Zone = null,
    char? Decimal = null,
    ImmutableDictionary<string, string>? Values = null
)
{
    private static readonly CultureInfo Plain = CultureInfo.InvariantCulture;

    /// <summary>Texts that mean in this column that there is nothing, case ignored.</summary>
    public ImmutableArray<string> Absent { get; init; } = [];

    /// <summary>A form that says nothing: cells are written as Grand Stair writes them.</summary>
    public static CellForm Own { get; } = new();

    /// <summary>A cell as Grand Stair writes it.</summary>
    /// <param name="text">The cell.</param>
    /// <param name="kind">What it is.</param>
    /// <param name="wrong">What is wrong with it, in words that go on from the text; null where nothing is.</param>
    public string Read(string text, ValueKind kind, out string? wrong)
    {
        ArgumentNullException.ThrowIfNull(text);
        wrong = null;
        text = text.Trim();
        if (Values is { } values && values.TryGetValue(text, out var meant))
            return meant;
        return kind switch
        {
            ValueKind.Number or ValueKind.Size or ValueKind.Duration or ValueKind.Rate => Amount(text, kind, out wrong),
            ValueKind.Date or ValueKind.Instant when Format is not null => Time(text, kind, out wrong),
            _ => text,
        };
    }

    private string Amount(string text, ValueKind kind, out string? wrong)
    {
        wrong = null;
        if (Number().Match(text) is not { Success: true } match)
            return Unit is not null && double.TryParse(text, NumberStyles.Float, Plain, out _) ? $"{text} {Unit}" : text;
        var (digits, unit) = (match.Groups[1].Value, match.Groups[2].Value);
        if (unit.Length == 0 && Unit is not null)
            unit = Unit;
        if (Decimal is { } point)
        {
            var thousands = point == ',' ? '.' : ',';
            digits = string.Concat(digits.Where(c => c != thousands && !char.IsWhiteSpace(c) && c != '\'')).Replace(point, '.');
        }
        else if (kind != ValueKind.Number && Grouped().IsMatch(digits))
        {
            wrong =
                $"which can be read as "
                + $"{double.Parse(digits[..(digits.IndexOf('.', StringComparison.Ordinal) + 4)], Plain).ToString(Plain)} or as "
                + $"{digits.Replace(".", "", StringComparison.Ordinal)}; write it without a separator of thousands, or say in a "
                + $"mapping which character is before decimals (decimal)";
            return text;
        }
        else if (digits.Any(c => c is ',' or '\'' || char.IsWhiteSpace(c)))
        {
            wrong = "which has a separator; say in a mapping which character is before decimals (decimal)";
            return text;
        }

        return unit.Length == 0 ? digits : $"{digits} {unit}";
    }

    private string Time(string text, ValueKind kind, out string? wrong)
    {
        wrong = null;
        if (kind == ValueKind.Date)
        {
            if (DateOnly.TryParseExact(text, Format, Plain, DateTimeStyles.None, out var day))
                return day.ToString("yyyy-MM-dd", Plain);
        }
        else if (HasOffset(Format!))
        {
            if (DateTimeOffset.TryParseExact(text, Format, Plain, DateTimeStyles.None, out var moment))
                return moment.UtcDateTime.ToString("yyyy-MM-ddTHH:mm:ssZ", Plain);
        }
        else if (DateTime.TryParseExact(text, Format, Plain, DateTimeStyles.None, out var local) && Zone is not null)
        {
            // Of an hour that comes twice the first is meant, as in calendars.
            return Zone.AtLeniently(LocalDateTime.FromDateTime(local)).ToInstant().ToDateTimeUtc().ToString("yyyy-MM-ddTHH:mm:ssZ", Plain);
        }

        wrong =
            $"which is not written as '{Format}', such as "
            + $"{new DateTimeOffset(2027, 3, 31, 18, 5, 0, TimeSpan.Zero).ToString(Format, Plain)}";
        return text;
    }

    /// <summary>Whether times of a pattern say how far from UTC they are.</summary>
    internal static bool HasOffset(string format) =>
        format.Contains('z', StringComparison.Ordinal) || format.Contains('K', StringComparison.Ordinal);

    [GeneratedRegex(@"^([+-]?\d[\d.,'\s]*?)\s*([A-Za-z/]*)$")]
    private static partial Regex Number();

    [GeneratedRegex(@"^[+-]?[1-9]\d{0,2}(\.\d{3})+$")]
    private static partial Regex Grouped();
}
