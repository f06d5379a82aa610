using System.IO.Compression;
using System.Text;

namespace GrandStair.Storage.Runs;

/// <summary>Texts as tables keep them: compressed (Brotli), as Base64.</summary>
internal static class PackedText
{
    public static string Pack(string text)
    {
        using var packed = new MemoryStream();
        using (var brotli = new BrotliStream(packed, CompressionLevel.Optimal))
            brotli.Write(Encoding.UTF8.GetBytes(text));
        return Convert.ToBase64String(packed.ToArray());
    }

    public static string Unpack(string packed)
    {
        using var brotli = new BrotliStream(new MemoryStream(Convert.FromBase64String(packed)), CompressionMode.Decompress);
        using var reader = new StreamReader(brotli, Encoding.UTF8);
        return reader.ReadToEnd();
    }
}
