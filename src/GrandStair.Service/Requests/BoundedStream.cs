using System.Text;
using GrandStair.Files;

namespace GrandStair.Service.Requests;

/// <summary>Reads no more than so many bytes.</summary>
internal sealed class BoundedStream(Stream inner, long most) : Stream
{
    private long _read;

    private static readonly UTF8Encoding Strict = new(encoderShouldEmitUTF8Identifier: false, throwOnInvalidBytes: true);

    /// <summary>The whole body of a request as text (UTF-8), of no more than so many bytes.</summary>
    /// <exception cref="FileException">It is larger, or in another encoding.</exception>
    public static async Task<string> ReadTextAsync(HttpRequest request, long most, CancellationToken stop)
    {
        using var body = new MemoryStream();
        await new BoundedStream(request.Body, most).CopyToAsync(body, stop);
        var bytes = body.GetBuffer().AsSpan(0, (int)body.Length);
        try
        {
            return Strict.GetString(bytes).TrimStart('\uFEFF');
        }
        catch (DecoderFallbackException error)
        {
            throw new FileException([
                new(
                    "the file",
                    bytes[..Math.Max(0, error.Index)].Count((byte)'\n') + 1,
                    0,
                    "This line is not in UTF-8; expected the whole file in that encoding. Save it so, for example with: iconv -f "
                        + "latin1 -t utf-8 FILE > NEW"
                ),
            ]);
        }
    }

    public override bool CanRead => true;

    public override bool CanSeek => false;

    public override bool CanWrite => false;

    public override long Length => throw new NotSupportedException();

    public override long Position
    {
        get => _read;
        set => throw new NotSupportedException();
    }

    public override async ValueTask<int> ReadAsync(Memory<byte> buffer, CancellationToken cancellationToken = default)
    {
        var read = await inner.ReadAsync(buffer, cancellationToken);
        _read += read;
        return _read <= most
            ? read
            : throw new FileException([new("the file", 1, 0, $"It is larger than {most >> 20} MiB; import it in parts.")]);
    }

    public override int Read(byte[] buffer, int offset, int count) => throw new NotSupportedException();

    public override void Flush() => throw new NotSupportedException();

    public override long Seek(long offset, SeekOrigin origin) => throw new NotSupportedException();

    public override void SetLength(long value) => throw new NotSupportedException();

    public override void Write(byte[] buffer, int offset, int count) => throw new NotSupportedException();
}
