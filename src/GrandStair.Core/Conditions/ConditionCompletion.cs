using System.Collections.Immutable;
using System.Text.RegularExpressions;
using GrandStair.Core.Readings;

namespace GrandStair.Core.Conditions;

/// <summary>What may come next in a condition.</summary>
public enum Coming
{
    /// <summary>A key.</summary>
    Key,

    /// <summary>A column of a table, within <c>has ( … )</c>.</summary>
    Column,

    /// <summary>A comparison of the key before it.</summary>
    Comparison,

    /// <summary>A value of the key before it.</summary>
    Value,

    /// <summary>A word that joins another part to it.</summary>
    Join,
}

/// <summary>Something that may come next.</summary>
/// <param name="Text">What is written, in quotes where it needs them.</param>
/// <param name="Hint">What it means, or on how many machines it is so; empty where its text says all.</param>
public sealed record Offered(string Text, string Hint);

/// <summary>The end of a condition that somebody is writing, and what may come there.</summary>
/// <param name="From">Where the word begins that is being written, counted from 0.</param>
/// <param name="Typed">What there is of that word; empty where a new one begins.</param>
/// <param name="Coming">What may come.</param>
/// <param name="Key">The key that is asked about, where a comparison or a value comes.</param>
/// <param name="Table">The table whose rows are asked about; null outside <c>has ( … )</c>.</param>
public sealed partial record ConditionCompletion(int From, string Typed, Coming Coming, KeyDefinition? Key, KeyDefinition? Table)
{
    private const int MostOffered = 14;
    private static readonly string[] Joins = ["and", "or", "and not"];
    private static readonly string[] BeforeValues = ["=", "!=", "<", "<=", ">", ">=", "like", "between", ",", "("];

    /// <summary>Whether the values that machines have are worth looking up.</summary>
    public bool WantsValues => Coming == Coming.Value && Table is null && Key is not null;

    /// <summary>Looks at the end of a text; one that is no condition is looked at as far as it can be understood.</summary>
    public static ConditionCompletion Of(string text, KeyRegistry keys)
    {
        ArgumentNullException.ThrowIfNull(text);
        ArgumentNullException.ThrowIfNull(keys);
        if (text.Length > ConditionParser.MaxLength)
            text = text[^ConditionParser.MaxLength..];
        var tokens = Word().Matches(text);
        var writing =
            tokens.Count > 0 && tokens[^1].Index + tokens[^1].Length == text.Length && tokens[^1].Value is not ("(" or ")" or ",")
                ? tokens[^1]
                : null;
        var (from, typed) = writing is null ? (text.Length, "") : (writing.Index, writing.Value);
        string[] before = [.. tokens.Take(tokens.Count - (writing is null ? 0 : 1)).Select(t => t.Value)];
        var last = before.LastOrDefault("").ToLowerInvariant();
        var table = TableOf(before, keys);
        KeyDefinition? Known(string word) => table is null ? keys.Find(word) : table.Column(word);
        var key = before.Reverse().Select(Known).FirstOrDefault(k => k is not null);
        var opensList = last == "(" && before is [.., var one, _] && one.Equals("in", StringComparison.OrdinalIgnoreCase);
        var coming =
            last is "" or "and" or "or" or "not" || (last == "(" && !opensList)
                ? table is null
                    ? Coming.Key
                    : Coming.Column
                : Known(last) is not null
                    ? Coming.Comparison
                    : BeforeValues.Contains(last)
                        ? Coming.Value
                        : Coming.Join;
        return new(from, typed, coming, key, table);
    }

    /// <summary>What may come, what begins with the typed word before what merely has it inside.</summary>
    /// <param name="keys">The known keys.</param>
    /// <param name="values">The values that machines have under the key, and how many have each.</param>
    public ImmutableArray<Offered> Offers(KeyRegistry keys, IEnumerable<(string Value, int Machines)> values)
    {
        ArgumentNullException.ThrowIfNull(keys);
        ArgumentNullException.ThrowIfNull(values);
        var all = Coming switch
        {
            Coming.Key => keys.All.Select(k => new Offered(k.Name, k.Meaning)),
            Coming.Column => Table!.Columns.Select(c => new Offered(c.Name, c.Meaning)),
            Coming.Comparison => Comparisons(Key!.Kind).Select(c => new Offered(c, "")),
            Coming.Value => values.Select(v => new Offered(
                Plain().IsMatch(v.Value) ? v.Value : $"\"{v.Value}\"",
                v.Machines == 1 ? "1 machine" : $"{v.Machines} machines"
            )),
            _ => Joins.Select(j => new Offered(j, "")),
        };
        var typed = Typed.Replace("\"", "", StringComparison.Ordinal);
        string Bare(Offered o) => o.Text.Replace("\"", "", StringComparison.Ordinal);
        return
        [
            .. all.Where(o => Bare(o).Contains(typed, StringComparison.OrdinalIgnoreCase) && o.Text != Typed)
                .OrderBy(o => Bare(o).StartsWith(typed, StringComparison.OrdinalIgnoreCase) ? 0 : 1)
                .Take(MostOffered),
        ];
    }

    private static IEnumerable<string> Comparisons(ValueKind kind) =>
        kind switch
        {
            ValueKind.Table => ["has (", "is known", "is absent", "older than"],
            ValueKind.Flag => ["=", "!=", "is known", "is absent", "older than"],
            ValueKind.Text or ValueKind.List => ["=", "!=", "in (", "not in (", "like", "not like", "is known", "is absent", "older than"],
            _ => ["=", "!=", "<", "<=", ">", ">=", "between", "in (", "not in (", "is known", "is absent", "older than"],
        };

    /// <summary>The table whose parenthesis after <c>has</c> is still open; null where none is.</summary>
    private static KeyDefinition? TableOf(string[] before, KeyRegistry keys)
    {
        var has = Array.FindLastIndex(before, w => w.Equals("has", StringComparison.OrdinalIgnoreCase));
        var isOpen = has > 0 && before[has..].Count(w => w == "(") > before[has..].Count(w => w == ")");
        return isOpen ? keys.Find(before[has - 1]) : null;
    }

    [GeneratedRegex("\"[^\"]*\"?|[()=,]|[<>!]=?|[^\\s()=<>!,\"]+")]
    private static partial Regex Word();

    [GeneratedRegex(@"^[\w.:/+~-]+$")]
    private static partial Regex Plain();
}
