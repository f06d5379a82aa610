using System.Globalization;
using GrandStair.Core.Readings;
using Microsoft.Extensions.Logging.Abstractions;
using Microsoft.Extensions.Logging.Console;

namespace GrandStair.Service;

/// <summary>
/// One line a message: time (UTC), level, category, text. What machines and callers sent is cleaned of codes that a terminal would obey.
/// </summary>
internal sealed class LogLine() : ConsoleFormatter(Name)
{
    /// <summary>The formatter's name.</summary>
    public new const string Name = "line";

    public override void Write<TState>(in LogEntry<TState> logEntry, IExternalScopeProvider? scopeProvider, TextWriter textWriter)
    {
        var level = logEntry.LogLevel switch
        {
            LogLevel.Critical => "crit",
            LogLevel.Error => "fail",
            LogLevel.Warning => "warn",
            LogLevel.Information => "info",
            _ => "dbug",
        };
        var text =
            $"{logEntry.Formatter(logEntry.State, logEntry.Exception)}{(logEntry.Exception is null ? "" : $" {logEntry.Exception}")}";
        textWriter.WriteLine(
            $"{DateTime.UtcNow.ToString("HH:mm:ss", CultureInfo.InvariantCulture)} {level}: {logEntry.Category}[{logEntry.EventId.Id}] "
                + $"{PlainText.Line(text)}"
        );
    }
}
