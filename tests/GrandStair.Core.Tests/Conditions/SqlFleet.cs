using GrandStair.Core.Conditions;
using GrandStair.Core.Readings;
using Microsoft.Data.Sqlite;

namespace GrandStair.Core.Tests.Conditions;

/// <summary>
/// A fleet in SQLite, and conditions as SQL: the third opinion. What cannot be told is NULL there, so that SQL's own three-valued
/// logic joins the comparisons.
/// </summary>
internal sealed class SqlFleet : IDisposable
{
    private readonly SqliteConnection _connection = new("Data Source=:memory:");

    public SqlFleet(IReadOnlyList<Machine> machines)
    {
        _connection.Open();
        Run("CREATE TABLE readings (machine INTEGER, key TEXT, state TEXT, seen INTEGER, amount REAL, text TEXT)");
        Run("CREATE TABLE items (machine INTEGER, key TEXT, item TEXT)");
        Run("CREATE TABLE cells (machine INTEGER, key TEXT, row INTEGER, column TEXT, state TEXT, amount REAL, text TEXT)");
        Run("CREATE TABLE machines (id INTEGER)");
        foreach (var machine in machines)
        {
            Run("INSERT INTO machines VALUES (@p0)", machine.Id.Value);
            foreach (var key in Drawn.Keys.All)
                if (machine.Find(key.Name) is { } reading)
                    Put(machine, key, reading);
        }
    }

    public Kleene[] Ask(Condition condition, EvaluationContext context)
    {
        using var command = _connection.CreateCommand();
        command.CommandText = $"SELECT {Sql(condition, context, null)} FROM machines m ORDER BY m.id";
        using var reader = command.ExecuteReader();
        var answers = new List<Kleene>();
        while (reader.Read())
            answers.Add(
                reader.IsDBNull(0) ? Kleene.Unknown
                : reader.GetInt64(0) == 0 ? Kleene.No
                : Kleene.Yes
            );
        return [.. answers];
    }

    public void Dispose() => _connection.Dispose();

    private void Put(Machine machine, KeyDefinition key, Reading reading)
    {
        Run(
            "INSERT INTO readings VALUES (@p0, @p1, @p2, @p3, @p4, @p5)",
            machine.Id.Value,
            key.Name,
            $"{reading.State}",
            reading.Seen.UtcTicks,
            Amount(key.Kind, reading.Value),
            reading.Value?.Text
        );
        foreach (var item in reading.Value?.Items ?? [])
            Run("INSERT INTO items VALUES (@p0, @p1, @p2)", machine.Id.Value, key.Name, item);
        var number = 0;
        foreach (var row in reading.Value?.Rows ?? [])
        {
            number++;
            foreach (var column in key.Columns)
            {
                var state =
                    !row.Cells.TryGetValue(column.Name, out var text) ? "Absent"
                    : text is null ? "Unreadable"
                    : "Value";
                Run(
                    "INSERT INTO cells VALUES (@p0, @p1, @p2, @p3, @p4, @p5, @p6)",
                    machine.Id.Value,
                    key.Name,
                    number,
                    column.Name,
                    state,
                    text is null ? null : Amount(column.Kind, column.Parse(text, out _)),
                    text
                );
            }
        }
    }

    private static string Sql(Condition condition, EvaluationContext context, string? table) =>
        condition switch
        {
            All all => $"({string.Join(" AND ", all.Parts.Select(p => Sql(p, context, table)))})",
            Any any => $"({string.Join(" OR ", any.Parts.Select(p => Sql(p, context, table)))})",
            Not not => $"(NOT {Sql(not.Part, context, table)})",
            AsksRaw raw => Raw(raw, context),
            Has has =>
                $"(SELECT CASE WHEN {WhyNot(context, null)} THEN NULL WHEN r.state = 'Absent' THEN 0 ELSE (SELECT CASE WHEN max(answer "
                    + $"= 1) = 1 THEN 1 WHEN max(answer IS NULL) = 1 THEN NULL ELSE 0 END FROM (SELECT "
                    + $"{Sql(has.Row, context, has.Key.Name)} AS answer FROM (SELECT DISTINCT machine, key, row FROM cells) w WHERE "
                    + $"w.machine = m.id AND w.key = '{has.Key.Name}')) END {From(has.Key.Name)})",
            Compares compares =>
                $"(SELECT CASE WHEN {WhyNot(context, table)} THEN NULL WHEN r.state = 'Absent' THEN 0 ELSE {Holds(compares, context)} "
                    + $"END {(table is null ? From(compares.Key.Name) : FromRow(compares.Key.Name))})",
            _ => throw new InvalidOperationException(),
        };

    private static string FromRow(string column) =>
        $"FROM cells r WHERE r.machine = w.machine AND r.key = w.key AND r.row = w.row AND r.column = '{column}'";

    private static string From(string key) => $"FROM (SELECT 1) LEFT JOIN readings r ON r.machine = m.id AND r.key = '{key}'";

    private static string WhyNot(EvaluationContext context, string? table) =>
        $"r.state IS NULL OR r.state = "
        + $"'Unreadable'{(table is null && context.MaxAge is { } age ? $" OR r.seen < {context.Now.UtcTicks - age.Ticks}" : "")}";

    private static string Raw(AsksRaw raw, EvaluationContext context)
    {
        var answer = raw.Question switch
        {
            RawQuestion.Known => "coalesce(r.state IN ('Value', 'Absent'), 0)",
            RawQuestion.Absent => "coalesce(r.state = 'Absent', 0)",
            _ => $"coalesce(r.seen < {context.Now.UtcTicks - raw.Age.Ticks}, 1)",
        };
        return $"(SELECT {answer} {From(raw.Key.Name)})";
    }

    private static string Holds(Compares compares, EvaluationContext context)
    {
        string With(int i) => Literal(compares.Key.Kind, compares.With[i], context);
        var text = compares.Key.Kind is ValueKind.Text;
        string Equal(int i) =>
            compares.Key.Kind == ValueKind.List
                ? $"EXISTS (SELECT 1 FROM items i WHERE i.machine = m.id AND i.key = r.key AND i.item = {Quote(compares.With[i].Text)} "
                    + $"COLLATE NOCASE)"
            : text ? $"r.text = {With(i)} COLLATE NOCASE"
            : $"r.amount = {With(i)}";
        return $"{(compares.How is Comparison.NotIn or Comparison.NotBetween or Comparison.NotLike ? "NOT " : "")}({compares.How switch
        {
            Comparison.Equal => Equal(0),
            Comparison.NotEqual => $"NOT ({Equal(0)})",
            Comparison.Less => $"r.amount < {With(0)}",
            Comparison.AtMost => $"r.amount <= {With(0)}",
            Comparison.Greater => $"r.amount > {With(0)}",
            Comparison.AtLeast => $"r.amount >= {With(0)}",
            Comparison.In or Comparison.NotIn => $"({string.Join(" OR ", compares.With.Select((_, i) => Equal(i)))})",
            Comparison.Between or Comparison.NotBetween => $"r.amount BETWEEN {With(0)} AND {With(1)}",
            _ when compares.Key.Kind == ValueKind.List => $"EXISTS (SELECT 1 FROM items i WHERE i.machine = m.id AND i.key = r.key AND "
                + $"i.item LIKE {Pattern(compares.With[0].Text)})",
            _ => $"r.text LIKE {Pattern(compares.With[0].Text)}",
        }})";
    }

    private static string Literal(ValueKind kind, Literal literal, EvaluationContext context) =>
        literal.Ago is { } ago ? $"{(context.Now - ago).ToUnixTimeSeconds()}.0"
        : kind == ValueKind.Text ? Quote(literal.Value!.Text)
        : Amount(kind, literal.Value!)!.Value.ToString("F6", System.Globalization.CultureInfo.InvariantCulture);

    /// <summary>The amount by which values are compared; a version's three numbers in one.</summary>
    private static double? Amount(ValueKind kind, ReadingValue? value)
    {
        if (value is null || kind != ValueKind.Version)
            return value?.Amount;
        var parts = value.Text.Split('.').Select(double.Parse).Concat([0, 0]).ToArray();
        return (parts[0] * 1e6) + (parts[1] * 1e3) + parts[2];
    }

    private static string Quote(string text) => $"'{text.Replace("'", "''", StringComparison.Ordinal)}'";

    private static string Pattern(string pattern) => Quote(pattern.Replace('*', '%').Replace('?', '_'));

    private void Run(string sql, params object?[] values)
    {
        using var command = _connection.CreateCommand();
        command.CommandText = sql;
        for (var i = 0; i < values.Length; i++)
            command.Parameters.AddWithValue($"@p{i}", values[i] ?? DBNull.Value);
        command.ExecuteNonQuery();
    }
}
