using System.Diagnostics;
using System.Net;
using System.Net.Sockets;
using GrandStair.Client;

namespace GrandStair.Testing;

/// <summary>The service as its users start it: its own process on loopback, with its own data folder.</summary>
public sealed class ServiceProcess : IAsyncDisposable
{
    private static readonly TimeSpan StartLimit = TimeSpan.FromSeconds(120);
    private readonly List<string> _output = [];
    private readonly string[] _arguments;
    private Process? _process;

    private ServiceProcess(string data, int port, string[] arguments, bool tls)
    {
        Data = data;
        Url = new($"{(tls ? "https" : "http")}://127.0.0.1:{port}");
        _arguments = ["--data", data, "--port", $"{port}", .. arguments];
    }

    /// <summary>The data folder.</summary>
    public string Data { get; }

    /// <summary>Where it listens.</summary>
    public Uri Url { get; }

    /// <summary>The process that it is.</summary>
    public int Id => _process!.Id;

    /// <summary>The token that the first start wrote.</summary>
    public string Token => File.ReadAllText(Path.Combine(Data, "admin.token")).Trim();

    /// <summary>A client that calls it.</summary>
    public GrandStairClient Client => new(Url, Token);

    /// <summary>What it has written so far.</summary>
    public string Output
    {
        get
        {
            lock (_output)
                return string.Join('\n', _output);
        }
    }

    /// <summary>Starts a service on a new data folder.</summary>
    public static async Task<ServiceProcess> StartAsync(params string[] arguments)
    {
        var data = Directory.CreateTempSubdirectory("grandstair-test-").FullName;
        return await StartAsync(data, arguments);
    }

    /// <summary>Starts a service on a data folder.</summary>
    public static Task<ServiceProcess> StartAsync(string data, string[] arguments) => StartAsync(data, FreePort(), arguments);

    /// <summary>Starts a service on a data folder and a port, with TLS or without.</summary>
    public static async Task<ServiceProcess> StartAsync(string data, int port, string[] arguments, bool tls = false)
    {
        var service = new ServiceProcess(data, port, arguments, tls);
        await service.StartAgainAsync();
        return service;
    }

    /// <summary>Starts it again on the same data and port.</summary>
    public async Task StartAgainAsync()
    {
        var start = new ProcessStartInfo("dotnet", [Repository.Built("GrandStair.Service", "grandstair"), .. _arguments])
        {
            RedirectStandardOutput = true,
            RedirectStandardError = true,
        };
        _process = Process.Start(start)!;
        _process.OutputDataReceived += (_, e) => Keep(e.Data);
        _process.ErrorDataReceived += (_, e) => Keep(e.Data);
        _process.BeginOutputReadLine();
        _process.BeginErrorReadLine();
        // It is the tests' own service, whatever certificate it shows.
        using var http = new HttpClient(
            new HttpClientHandler
            {
                ServerCertificateCustomValidationCallback = HttpClientHandler.DangerousAcceptAnyServerCertificateValidator,
            }
        );
        var begun = Stopwatch.StartNew();
        while (true)
        {
            try
            {
                if ((await http.GetAsync(new Uri(Url, "/health/ready"))).IsSuccessStatusCode)
                    return;
            }
            catch (HttpRequestException) when (begun.Elapsed < StartLimit && !_process.HasExited)
            {
                // It is still starting.
            }

            if (_process.HasExited || begun.Elapsed > StartLimit)
                throw new InvalidOperationException($"The service did not start:\n{Output}");
            await Task.Delay(100);
        }
    }

    /// <summary>Waits until it has written a line that begins so, and returns the rest of it.</summary>
    public async Task<string> WaitForLineAsync(string begin, TimeSpan limit)
    {
        string? found = null;
        await Eventually.TrueAsync(
            () =>
            {
                lock (_output)
                    found = _output.LastOrDefault(l => l.StartsWith(begin, StringComparison.Ordinal));
                return Task.FromResult(found is not null);
            },
            limit,
            () => $"the service writes '{begin}…'; it wrote:\n{Output}"
        );
        return found![begin.Length..];
    }

    /// <summary>Ends it at once, as a power cut would (SIGKILL).</summary>
    public async Task KillAsync()
    {
        if (_process is null || _process.HasExited)
            return;
        _process.Kill();
        await _process.WaitForExitAsync();
    }

    /// <inheritdoc />
    public async ValueTask DisposeAsync()
    {
        await KillAsync();
        _process?.Dispose();
        if (Data.StartsWith(Path.GetTempPath(), StringComparison.Ordinal))
            Directory.Delete(Data, recursive: true);
    }

    private void Keep(string? line)
    {
        if (line is null)
            return;
        lock (_output)
            _output.Add(line);
    }

    /// <summary>A TCP port on loopback that nobody has.</summary>
    public static int FreePort()
    {
        using var listener = new TcpListener(IPAddress.Loopback, 0);
        listener.Start();
        return ((IPEndPoint)listener.LocalEndpoint).Port;
    }
}
