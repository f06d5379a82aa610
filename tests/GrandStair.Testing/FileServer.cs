using System.Collections.Concurrent;
using System.Net;
using System.Net.Sockets;

namespace GrandStair.Testing;

/// <summary>A web server on loopback that has files, sends parts of them, and can be made to cut an answer off.</summary>
public sealed class FileServer : IDisposable
{
    private readonly HttpListener _listener = new();

    private FileServer(int port)
    {
        Url = new($"http://127.0.0.1:{port}/");
        _listener.Prefixes.Add(Url.ToString());
    }

    /// <summary>Where it listens.</summary>
    public Uri Url { get; }

    /// <summary>The files by path, without the first slash.</summary>
    public ConcurrentDictionary<string, byte[]> Files { get; } = new();

    /// <summary>Where paths redirect to.</summary>
    public ConcurrentDictionary<string, Uri> Redirects { get; } = new();

    /// <summary>After how many bytes answers are cut off; null for never.</summary>
    public int? CutAfter { get; set; }

    /// <summary>The entity tag of all files; null for none.</summary>
    public string? Tag { get; set; } = "\"first\"";

    /// <summary>The calls so far: the path, and the first byte that was asked for.</summary>
    public ConcurrentQueue<(string Path, long From)> Calls { get; } = new();

    /// <summary>Starts one.</summary>
    public static FileServer Start()
    {
        using var probe = new TcpListener(IPAddress.Loopback, 0);
        probe.Start();
        var port = ((IPEndPoint)probe.LocalEndpoint).Port;
        probe.Stop();
        var server = new FileServer(port);
        server._listener.Start();
        _ = server.ServeAsync();
        return server;
    }

    /// <inheritdoc />
    public void Dispose() => _listener.Close();

    private async Task ServeAsync()
    {
        while (_listener.IsListening)
        {
            try
            {
                await AnswerAsync(await _listener.GetContextAsync());
            }
            catch (Exception error) when (error is HttpListenerException or ObjectDisposedException or IOException)
            {
                // The server ends, or whoever asked has gone.
            }
        }
    }

    private async Task AnswerAsync(HttpListenerContext call)
    {
        var path = Uri.UnescapeDataString(call.Request.Url!.AbsolutePath.TrimStart('/'));
        using var response = call.Response;
        if (Redirects.TryGetValue(path, out var to))
        {
            response.Redirect(to.ToString());
            return;
        }

        var asked = call.Request.Headers["Range"] is { } range ? long.Parse(range.Split('=', '-')[1], null) : 0;
        var isSame = call.Request.Headers["If-Range"] is not { } tag || tag == Tag;
        var from = isSame ? asked : 0;
        Calls.Enqueue((path, from));
        if (!Files.TryGetValue(path, out var content))
        {
            response.StatusCode = 404;
            return;
        }

        response.StatusCode = from > 0 ? 206 : 200;
        response.ContentLength64 = content.Length - from;
        if (from > 0)
            response.AddHeader("Content-Range", $"bytes {from}-{content.Length - 1}/{content.Length}");
        if (Tag is not null)
            response.AddHeader("ETag", Tag);
        var length = (int)Math.Min(content.Length - from, CutAfter ?? int.MaxValue);
        await response.OutputStream.WriteAsync(content.AsMemory((int)from, length));
        await response.OutputStream.FlushAsync();
        if (length < content.Length - from)
            response.Abort();
    }
}
