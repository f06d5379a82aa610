using System.Globalization;
using System.Net.Sockets;
using System.Text;
using GrandStair.Core.Audit;
using GrandStair.Engine.Duties;
using GrandStair.Files.Audit;

namespace GrandStair.Service.Audit;

/// <summary>
/// Writes heads of the audit to where neither the database nor the data folder reaches, so that both can be checked against them later:
/// <c>--audit-anchor</c> with <c>file:PATH</c>, <c>syslog:HOST:PORT</c> (RFC 5424 over UDP, RFC 5426) or an <c>https:</c> URL, separated by
/// commas.
/// </summary>
internal sealed class AuditAnchors(ServiceOptions options, DutyHost duties, TimeProvider clock, ILogger<AuditAnchors> log)
    : BackgroundService
{
    // Facility 13 (log audit), severity 5 (notice): RFC 5424 §6.2.1.
    private const int Priority = (13 * 8) + 5;
    private static readonly TimeSpan Every = TimeSpan.FromSeconds(2);
    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(10);
    private static readonly HttpClient Http = new() { Timeout = Patience };
    private volatile AuditSeal? _newest;

    /// <summary>
    /// Notes a new head; it is written soon. Of several in a short time only the last one is, since it covers those before it.
    /// </summary>
    public void Add(AuditSeal head) => _newest = head;

    protected override Task ExecuteAsync(CancellationToken stoppingToken) =>
        options.AuditAnchors.Count == 0
            ? Task.CompletedTask
            : Task.WhenAll(
                options.AuditAnchors.Select(anchor =>
                    duties.RunAsync($"audit-anchor {anchor}", stop => KeepAsync(anchor, stop), stoppingToken)
                )
            );

    private async Task KeepAsync(string anchor, CancellationToken stop)
    {
        AuditSeal? written = null;
        while (!stop.IsCancellationRequested)
        {
            try
            {
                if (_newest is { } head && head != written)
                {
                    await WriteAsync(anchor, head, stop);
                    written = head;
                }
            }
            catch (Exception error)
                when (error
                        is IOException
                            or SocketException
                            or HttpRequestException
                            or UnauthorizedAccessException
                            or TaskCanceledException
                    && !stop.IsCancellationRequested
                )
            {
                log.LogError("The audit's head cannot be anchored to {Anchor}, and is tried again: {Why}", anchor, error.Message);
                await Task.Delay(Patience, stop);
            }

            await Task.Delay(Every, stop);
        }
    }

    private async Task WriteAsync(string anchor, AuditSeal head, CancellationToken stop)
    {
        if (anchor.StartsWith("file:", StringComparison.Ordinal))
        {
            await File.AppendAllTextAsync(anchor[5..], AuditExport.SealLine(head) + "\n", stop);
        }
        else if (anchor.StartsWith("syslog:", StringComparison.Ordinal))
        {
            var at = anchor.LastIndexOf(':');
            using var udp = new UdpClient();
            await udp.SendAsync(
                Encoding.UTF8.GetBytes(SyslogLine(head, clock.GetUtcNow())),
                anchor[7..at],
                int.Parse(anchor[(at + 1)..], CultureInfo.InvariantCulture),
                stop
            );
        }
        else
        {
            using var response = await Http.PostAsync(
                new Uri(anchor),
                new StringContent(AuditExport.SealLine(head), Encoding.UTF8, "application/json"),
                stop
            );
            response.EnsureSuccessStatusCode();
        }
    }

    private static string SyslogLine(AuditSeal head, DateTimeOffset now) =>
        string.Create(
            CultureInfo.InvariantCulture,
            $"<{Priority}>1 {now.UtcDateTime:yyyy-MM-ddTHH:mm:ss.ffffffZ} {Environment.MachineName} grandstair {Environment.ProcessId} "
                + $"audit-head {AuditAnchorLines.Structured(head)}"
        );
}
