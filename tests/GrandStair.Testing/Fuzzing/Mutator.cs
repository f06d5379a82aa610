using System.Text;

namespace GrandStair.Testing.Fuzzing;

/// <summary>Changes texts at random, by a seed: the same seed gives the same texts.</summary>
public sealed class Mutator(int seed)
{
    /// <summary>
    /// What breaks parsers: brackets, quotation marks, terminal codes, numbers at the ends of their kinds, words of our formats.
    /// </summary>
    private static readonly string[] Pieces =
    [
        "[",
        "]",
        "{",
        "}",
        "(",
        ")",
        "\"",
        "'",
        ",",
        ":",
        ";",
        "&a ",
        "*a",
        "<<: ",
        "- ",
        "? ",
        "|",
        ">",
        "#",
        "%",
        "@",
        "\\",
        "\t",
        "\r\n",
        "\n\n",
        "\0",
        "\u001b[31m",
        "\u202E",
        "\uFEFF",
        "😀",
        "é",
        "0",
        "-1",
        "2147483648",
        "99999999999999999999",
        "1e308",
        "NaN",
        "null",
        "true",
        "~",
        "!!binary ",
        "---\n",
        "...\n",
        " and ",
        " or ",
        "not ",
        " like \"*?*\"",
        " in (",
        " between 1 and ",
        " older than ",
        "RRULE:FREQ=SECONDLY\r\n",
        "RRULE:FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=30\r\n",
        "BYSETPOS=-1;",
        "DURATION:-P1D\r\n",
        "DTEND:19000101T000000Z\r\n",
        "BEGIN:VEVENT\r\n",
        "END:VEVENT\r\n",
        "TZID=Atlantis/Deep",
        "weekly: [\"Mon-Sun 00:00-00:00\"]",
        "../../",
        "' OR 1=1 --",
    ];

    private readonly Random _random = new(seed);

    /// <summary>A number below another one.</summary>
    public int Next(int below) => _random.Next(below);

    /// <summary>One of several.</summary>
    public T Of<T>(IReadOnlyList<T> all) => all[_random.Next(all.Count)];

    /// <summary>A text that is not far from one that is right.</summary>
    public string Change(string text)
    {
        var changed = new StringBuilder(text);
        for (var times = 1 + _random.Next(4); times > 0; times--)
        {
            var at = _random.Next(changed.Length + 1);
            var length = Math.Min(_random.Next(1, 40), changed.Length - at);
            switch (_random.Next(8))
            {
                case 0:
                    changed.Remove(at, length);
                    break;
                case 1:
                    changed.Insert(at, Of(Pieces));
                    break;
                case 2:
                    changed.Insert(at, changed.ToString(at, length));
                    break;
                case 3:
                    changed.Remove(at, length).Insert(at, Of(Pieces));
                    break;
                case 4:
                    changed.Insert(at, (char)_random.Next(0x20, 0x2FF));
                    break;
                case 5 when changed.Length > 0:
                    changed[Math.Min(at, changed.Length - 1)] = (char)_random.Next(1, 0x7F);
                    break;
                case 6 when _random.Next(10) == 0:
                    changed.Insert(at, string.Concat(Enumerable.Repeat(Of(Pieces), _random.Next(2000))));
                    break;
                case 7:
                    changed.Length = at;
                    break;
                default:
                    break;
            }
        }

        return changed.ToString();
    }

    /// <summary>A short text that may be anything.</summary>
    public string Any() =>
        _random.Next(6) switch
        {
            0 => "",
            1 => Of(Pieces),
            2 => new string('x', _random.Next(300)),
            3 => _random.Next().ToString(System.Globalization.CultureInfo.InvariantCulture),
            4 => Change("2027-01-11T08:00:00Z"),
            _ => Change("name = \"desk-1\""),
        };
}
