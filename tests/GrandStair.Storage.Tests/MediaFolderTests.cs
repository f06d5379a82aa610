using GrandStair.Storage.Media;
using Xunit;

namespace GrandStair.Storage.Tests;

/// <summary>The content of media on the disk.</summary>
public sealed class MediaFolderTests : IDisposable
{
    private readonly string _path = Directory.CreateTempSubdirectory("grandstair-media-").FullName;
    private readonly MediaFolder _folder;

    public MediaFolderTests() => _folder = new(Path.Combine(_path, "media"));

    private static CancellationToken Stop => TestContext.Current.CancellationToken;

    [Fact]
    public async Task An_upload_goes_on_where_it_ended_and_nowhere_else()
    {
        Assert.Equal(0, _folder.Received("a"));
        Assert.Equal(-1, await AppendAsync(3, "def"));
        Assert.Equal(3, await AppendAsync(0, "abc"));
        Assert.Equal(-1, await AppendAsync(0, "abc"));
        Assert.Equal(5, await AppendAsync(3, "de"));
        // What goes beyond the size of the file is not taken.
        Assert.Equal(6, await AppendAsync(5, "fgh"));
        Assert.Equal(6, _folder.Received("a"));
        Assert.Equal("bef57ec7f53a6d40beb640a780a639c83bc29ac8a9816f1fc6c5c6dcd93c4721", await _folder.HashAsync("a", Stop));
    }

    [Fact]
    public async Task What_arrived_of_a_part_that_was_cut_off_stays()
    {
        await Assert.ThrowsAsync<IOException>(() => _folder.AppendAsync("a", 0, new CutStream("abcd"), 6, Stop));
        Assert.Equal(4, _folder.Received("a"));
        Assert.Equal(6, await AppendAsync(4, "ef"));
    }

    [Fact]
    public async Task Of_two_who_send_the_same_part_at_once_one_is_turned_away()
    {
        await using (new FileStream(Path.Combine(_path, "media", "uploads", "a"), FileMode.Create, FileAccess.Write, FileShare.None))
            Assert.Equal(-1, await AppendAsync(0, "abc"));
        Assert.Equal(3, await AppendAsync(0, "abc"));
    }

    [Fact]
    public async Task A_whole_upload_is_kept_under_its_checksum()
    {
        await AppendAsync(0, "abcdef");
        _folder.Keep("a", "0123");
        Assert.Equal("abcdef", await File.ReadAllTextAsync(_folder.PathOf("0123"), Stop));
        Assert.Equal(0, _folder.Received("a"));
        _folder.Drop("0123");
        Assert.False(File.Exists(_folder.PathOf("0123")));
    }

    public void Dispose() => Directory.Delete(_path, recursive: true);

    private async Task<long> AppendAsync(long offset, string text) =>
        await _folder.AppendAsync("a", offset, new MemoryStream(System.Text.Encoding.ASCII.GetBytes(text)), 6, Stop);

    /// <summary>A connection that is lost after some bytes.</summary>
    private sealed class CutStream(string text) : MemoryStream(System.Text.Encoding.ASCII.GetBytes(text))
    {
        public override ValueTask<int> ReadAsync(Memory<byte> buffer, CancellationToken cancellationToken = default) =>
            Position == Length ? throw new IOException("cut") : base.ReadAsync(buffer, cancellationToken);
    }
}
