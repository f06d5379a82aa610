using System.Text;
using GrandStair.Files;

namespace GrandStair.Service;

/// <summary>Reads no more than so many bytes.</summary>
internal sealed class BoundedStream(Stream inner, long most) : Stream
{
    private long _read;

    /// <summary>The whole body of a request as text (UTF-8), of no more than so many bytes.</summary>
    /// <exception cref="FileException">It is larger.</exception>
    public static async Task<string> ReadTextAsync(HttpRequest request, long most, CancellationToken stop)
    {
        using var reader = new StreamReader(new BoundedStream(request.Body, most), Encoding.UTF8);
        return await reader.ReadToEndAsync(stop);
    }

    public override bool CanRead => true;

    public override bool CanSeek => false;

    public override bool CanWrite => false;

    public override long Length => throw new NotSupportedException();

    public override long Position { get => _read; set => throw new NotSupportedException(); }

    public override async ValueTask<int> ReadAsync(Memory<byte> buffer, CancellationToken cancellationToken = default)
    {
        var read = await inner.ReadAsync(buffer, cancellationToken);
        _read += read;
        return _read <= most ? read : throw new FileException([new("the file", 1, 0, $"It is larger than {most >> 20} MiB; import it in parts.")]);
    }

    public override int Read(byte[] buffer, int offset, int count) => throw new NotSupportedException();

    public override void Flush() => throw new NotSupportedException();

    public override long Seek(long offset, SeekOrigin origin) => throw new NotSupportedException();

    public override void SetLength(long value) => throw new NotSupportedException();

    public override void Write(byte[] buffer, int offset, int count) => throw new NotSupportedException();
}
