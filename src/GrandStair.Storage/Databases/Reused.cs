using System.Data.Common;

namespace GrandStair.Storage.Databases;

/// <summary>One statement that is run many times in a transaction, and understood by the database once.</summary>
internal sealed class Reused : IDisposable
{
    private readonly DbCommand _command;

    /// <summary>A statement with its parameters in the order in which their values are given.</summary>
    public Reused(DbConnection connection, DbTransaction transaction, string sql, params string[] names)
    {
        _command = connection.CreateCommand();
        _command.Transaction = transaction;
        _command.CommandText = sql;
        foreach (var name in names)
        {
            var parameter = _command.CreateParameter();
            // With its sign it is found at once; without, each possible one is tried.
            parameter.ParameterName = $"@{name}";
            _command.Parameters.Add(parameter);
        }
    }

    public Task<int> RunAsync(params object?[] values)
    {
        Set(values);
        return _command.ExecuteNonQueryAsync();
    }

    public Task<object?> ScalarAsync(params object?[] values)
    {
        Set(values);
        return _command.ExecuteScalarAsync();
    }

    public void Dispose() => _command.Dispose();

    private void Set(object?[] values)
    {
        for (var i = 0; i < values.Length; i++)
            _command.Parameters[i].Value = values[i] ?? DBNull.Value;
    }
}
