using System.Text;

namespace GrandStair.Service.Fleet;

/// <summary>Finds out whether bytes that come piece by piece are UTF-8.</summary>
internal sealed class EncodingCheck
{
    private readonly Decoder _decoder = new UTF8Encoding(encoderShouldEmitUTF8Identifier: false, throwOnInvalidBytes: true).GetDecoder();
    private readonly char[] _characters = new char[(1 << 16) + 4];
    private bool _begun;

    /// <summary>The first line, from 1, that is not UTF-8; null where all are.</summary>
    public int? WrongLine { get; private set; }

    /// <summary>Whether every byte so far means the same in all encodings.</summary>
    public bool IsPlain { get; private set; } = true;

    /// <summary>Whether the first bytes are the mark of UTF-16, which is read as what it is.</summary>
    public bool HasOtherMark { get; private set; }

    /// <summary>Takes the next bytes.</summary>
    /// <param name="bytes">The bytes.</param>
    /// <param name="line">The line that they begin on.</param>
    public void Add(ReadOnlySpan<byte> bytes, int line)
    {
        if (!_begun)
            HasOtherMark = bytes is [0xFE, 0xFF, ..] or [0xFF, 0xFE, ..];
        _begun = true;
        if (IsPlain && bytes.ContainsAnyExceptInRange((byte)0, (byte)127))
            IsPlain = false;
        for (var from = 0; from < bytes.Length && WrongLine is null && !HasOtherMark; from += 1 << 15)
        {
            var some = bytes[from..Math.Min(bytes.Length, from + (1 << 15))];
            try
            {
                _decoder.GetChars(some, _characters, flush: false);
            }
            catch (DecoderFallbackException error)
            {
                WrongLine = line + bytes[..Math.Clamp(from + error.Index, 0, bytes.Length)].Count((byte)'\n');
            }
        }
    }

    /// <summary>Takes the end: a character may lack its last byte.</summary>
    public void End(int line)
    {
        if (WrongLine is not null || HasOtherMark)
            return;
        try
        {
            _decoder.GetChars([], _characters, flush: true);
        }
        catch (DecoderFallbackException)
        {
            WrongLine = line;
        }
    }
}
