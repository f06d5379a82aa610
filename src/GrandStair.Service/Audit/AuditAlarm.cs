namespace GrandStair.Service.Audit;

/// <summary>
/// Says that the audit is not what was sealed. It stays raised over restarts, in the data folder's <c>audit.alarm</c>, until an
/// administrator of the machine accepts an entry to continue from (<c>--accept-audit</c>).
/// </summary>
internal sealed class AuditAlarm(ServiceOptions options, ILogger<AuditAlarm> log)
{
    private readonly Lock _turn = new();
    private volatile string? _reason = File.Exists(FileIn(options.Data)) ? File.ReadAllText(FileIn(options.Data)).Trim() : null;

    /// <summary>What is wrong, as a sentence; null where nothing is known to be.</summary>
    public string? Reason => _reason;

    /// <summary>Whether something is wrong.</summary>
    public bool IsRaised => _reason is not null;

    /// <summary>Raises the alarm. The first reason stays.</summary>
    public void Raise(string reason)
    {
        lock (_turn)
        {
            if (_reason is not null)
                return;
            _reason = reason;
            log.LogCritical(
                "AUDIT ALARM: {Reason} Nothing further is sealed. See docs/security.md, 'When the audit alarm is raised'",
                reason
            );
            try
            {
                File.WriteAllText(FileIn(options.Data), reason + "\n");
            }
            catch (Exception error) when (error is IOException or UnauthorizedAccessException)
            {
                log.LogError("The alarm cannot be written to the data folder and ends with this process: {Why}", error.Message);
            }
        }
    }

    /// <summary>Ends the alarm, and returns why it was raised; null where it was not.</summary>
    public string? Clear()
    {
        lock (_turn)
        {
            var reason = _reason;
            File.Delete(FileIn(options.Data));
            _reason = null;
            return reason;
        }
    }

    private static string FileIn(string data) => Path.Combine(data, "audit.alarm");
}
