using System.Collections.Immutable;
using System.Text;
using System.Text.Json;

namespace GrandStair.Core.Readings;

/// <summary>
/// One record of a table: text by column, typed by the table's key. A column that is not there is absent from the row;
/// one that is null could not be read.
/// </summary>
public sealed record TableRow
{
    /// <summary>The most rows that a table may have.</summary>
    public const int MostRows = 20_000;

    /// <summary>What a table looks like, for an error.</summary>
    internal const string Form =
        """a table such as [{"name": "Ledger", "version": "8.2"}], with a text, a number, true, false or null in every column""";

    /// <summary>A row with these cells.</summary>
    public TableRow(ImmutableSortedDictionary<string, string?> cells)
    {
        ArgumentNullException.ThrowIfNull(cells);
        Cells = cells;
        Text = Write(cells);
    }

    /// <summary>The text in every column that the row has, by name; null where it could not be read.</summary>
    public ImmutableSortedDictionary<string, string?> Cells { get; }

    /// <summary>The row as a JSON object (RFC 8259), columns by name; equal rows have equal texts.</summary>
    public string Text { get; }

    /// <summary>Reads a row from what stands for it in a script's output or a file: a JSON object.</summary>
    /// <param name="expected">What was expected, where the text is no row.</param>
    public static TableRow? Parse(string text, out string? expected) => ParseAll($"[{text}]", out expected) is [var only] ? only : null;

    /// <summary>Reads all rows of a table from a JSON array of objects.</summary>
    /// <param name="expected">What was expected, where the text is no table.</param>
    public static ImmutableArray<TableRow>? ParseAll(string text, out string? expected)
    {
        ArgumentNullException.ThrowIfNull(text);
        expected = Form;
        try
        {
            using var document = JsonDocument.Parse(text, new JsonDocumentOptions { MaxDepth = 3 });
            if (document.RootElement.ValueKind != JsonValueKind.Array)
                return null;
            if (document.RootElement.GetArrayLength() > MostRows)
            {
                expected = $"a table of at most {MostRows} rows";
                return null;
            }

            var rows = ImmutableArray.CreateBuilder<TableRow>();
            foreach (var element in document.RootElement.EnumerateArray())
            {
                if (element.ValueKind != JsonValueKind.Object)
                    return null;
                var cells = ImmutableSortedDictionary.CreateBuilder<string, string?>(StringComparer.Ordinal);
                foreach (var cell in element.EnumerateObject())
                {
                    if (cell.Value.ValueKind is JsonValueKind.Object or JsonValueKind.Array)
                        return null;
                    cells[cell.Name] = cell.Value.ValueKind == JsonValueKind.Null ? null : cell.Value.ToString();
                }

                rows.Add(new(cells.ToImmutable()));
            }

            expected = null;
            return rows.ToImmutable();
        }
        catch (JsonException)
        {
            return null;
        }
    }

    /// <summary>The row as a person reads it: <c>Ledger, version 8.2</c>.</summary>
    public string Show()
    {
        var name = Cells.GetValueOrDefault("name");
        var others = Cells.Where(c => name is null || c.Key != "name").Select(c => $"{c.Key} {c.Value ?? "not known"}");
        return string.Join(", ", name is null ? others : others.Prepend(name));
    }

    /// <inheritdoc />
    public bool Equals(TableRow? other) => other is not null && string.Equals(Text, other.Text, StringComparison.OrdinalIgnoreCase);

    /// <inheritdoc />
    public override int GetHashCode() => StringComparer.OrdinalIgnoreCase.GetHashCode(Text);

    private static string Write(ImmutableSortedDictionary<string, string?> cells)
    {
        using var buffer = new MemoryStream();
        using (var writer = new Utf8JsonWriter(buffer))
        {
            writer.WriteStartObject();
            foreach (var (column, text) in cells)
                writer.WriteString(column, text);
            writer.WriteEndObject();
        }

        return Encoding.UTF8.GetString(buffer.ToArray());
    }
}

/// <summary>Something that has readings under keys: a machine, or a row of one of its tables.</summary>
public interface IReadable
{
    /// <summary>What is known under a key; null where it was never seen.</summary>
    Reading? Find(string key);
}

/// <summary>A row of a table as something that conditions can be asked of.</summary>
/// <param name="row">The row.</param>
/// <param name="table">The table's key.</param>
/// <param name="reading">The reading that the row is of.</param>
internal sealed class RowReadings(TableRow row, KeyDefinition table, Reading reading) : IReadable
{
    public Reading? Find(string key)
    {
        if (!row.Cells.TryGetValue(key, out var text))
            return reading with { Key = key, State = ReadingState.Absent, Value = null };
        var value = text is null ? null : ReadingValue.Parse(table.Column(key)!.Kind, text, out _);
        return value is null
            ? reading with
            {
                Key = key,
                State = ReadingState.Unreadable,
                Value = null,
                Why = "the column could not be read",
            }
            : reading with
            {
                Key = key,
                Value = value,
            };
    }
}
