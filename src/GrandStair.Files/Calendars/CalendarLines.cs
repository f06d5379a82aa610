using System.Collections.Immutable;
using System.Text;

namespace GrandStair.Files.Calendars;

/// <summary>A parameter of a property, such as <c>TZID=Europe/London</c>.</summary>
/// <param name="Name">Its name in capitals.</param>
/// <param name="Value">Its value without quotes.</param>
internal sealed record CalendarParameter(string Name, string Value);

/// <summary>A property of a calendar (RFC 5545 §3.1), put together from all the lines over which it was folded.</summary>
/// <param name="Line">The line of the file on which it begins, from 1.</param>
/// <param name="Name">Its name in capitals.</param>
/// <param name="Parameters">Its parameters.</param>
/// <param name="Value">Its value as it was written.</param>
internal sealed record CalendarProperty(int Line, string Name, ImmutableArray<CalendarParameter> Parameters, string Value)
{
    /// <summary>The value of a parameter; null where it has none of that name.</summary>
    public string? Parameter(string name) => Parameters.FirstOrDefault(p => p.Name == name)?.Value;

    /// <summary>The property with a parameter set, or taken away with null.</summary>
    public CalendarProperty With(string name, string? value) =>
        this with
        {
            Parameters = [.. Parameters.Where(p => p.Name != name), .. value is null ? [] : new[] { new CalendarParameter(name, value) }],
        };

    /// <summary>The property in one line.</summary>
    public string Written
    {
        get
        {
            var text = new StringBuilder(Name);
            foreach (var parameter in Parameters)
                text.Append(';')
                    .Append(parameter.Name)
                    .Append('=')
                    .Append(parameter.Value.AsSpan().IndexOfAny(";:,") >= 0 ? $"\"{parameter.Value}\"" : parameter.Value);
            return text.Append(':').Append(Value).ToString();
        }
    }
}

/// <summary>Reads a calendar's text into properties, as far as that needs no understanding of them.</summary>
internal static class CalendarLines
{
    /// <summary>The properties of a text, in order. Lines without a name and a value are left out.</summary>
    public static IEnumerable<CalendarProperty> Read(string text)
    {
        var (begun, line) = (0, 0);
        var whole = new StringBuilder();
        foreach (var next in text.TrimStart('\uFEFF').Split('\n'))
        {
            line++;
            var plain = next.TrimEnd('\r');
            if (plain is [' ' or '\t', ..])
            {
                whole.Append(plain, 1, plain.Length - 1);
                continue;
            }

            if (Parse(begun, whole.ToString()) is { } property)
                yield return property;
            whole.Clear().Append(plain);
            begun = line;
        }

        if (Parse(begun, whole.ToString()) is { } last)
            yield return last;
    }

    private static CalendarProperty? Parse(int line, string text)
    {
        // A colon or semicolon between quotes belongs to the value of a parameter.
        var (quoted, parts, from) = (false, new List<string>(), 0);
        for (var i = 0; i < text.Length; i++)
        {
            if (text[i] == '"')
                quoted = !quoted;
            if (quoted || text[i] is not (';' or ':'))
                continue;
            parts.Add(text[from..i]);
            from = i + 1;
            if (text[i] == ':')
                return new(line, parts[0].Trim().ToUpperInvariant(), [.. parts.Skip(1).Select(Parameter)], text[from..]);
        }

        return null;
    }

    private static CalendarParameter Parameter(string text)
    {
        var equals = text.IndexOf('=', StringComparison.Ordinal);
        return equals < 0
            ? new(text.Trim().ToUpperInvariant(), "")
            : new(text[..equals].Trim().ToUpperInvariant(), text[(equals + 1)..].Trim('"'));
    }
}
