using System.Security.Cryptography;
using GrandStair.Client;
using GrandStair.Testing;
using Xunit;

namespace GrandStair.Service.Tests;

/// <summary>Media as people add it, and as wrong files are kept out.</summary>
public sealed class MediaTests
{
    private static readonly byte[] Content = RandomNumberGenerator.GetBytes(300_000);
    private static readonly string Sha256 = Convert.ToHexStringLower(SHA256.HashData(Content));

    private static CancellationToken Stop => TestContext.Current.CancellationToken;

    [Fact]
    public async Task A_file_that_is_not_what_was_stated_is_not_sent_or_is_quarantined_and_never_served()
    {
        await using var service = await ServiceProcess.StartAsync();
        var file = Path.Combine(service.Data, "clock.img");
        await File.WriteAllBytesAsync(file, Content, Stop);

        // What the client can see to it does not send.
        var other = new string('0', 64);
        await FailsAsync(service, $"Its SHA-256 is {Sha256}; expected {other}. Nothing was sent", "media", "add", file, "--sha256", other);
        var list = service.Write($"{other}  clock.img\n{other}  glock.img\n", "sums");
        await FailsAsync(service, $"expected {other}", "media", "add", file, "--sums", list);
        list = service.Write($"{other}  clokc.img\n", "sums");
        await FailsAsync(service, "no line for 'clock.img'; did you mean 'clokc.img'?", "media", "add", file, "--sums", list);

        // What arrives with another content than was said is quarantined.
        var begun = await service.Client.BeginMediaUploadAsync(new("clock.img", Content.Length, other), Stop);
        var ended = await service.Client.SendMediaPartAsync(begun.Id, 0, Content, Stop);
        Assert.Equal(("quarantined", Sha256), (ended.State, ended.Sha256));
        Assert.Equal($"expected the checksum {other}, found {Sha256}", ended.Why);
        Assert.Contains(ended.Why!, await service.OkAsync("media", "show", "clock.img"), StringComparison.Ordinal);

        // Sent again as what it is, it is out of quarantine.
        list = service.Write($"{Sha256}  clock.img\n", "sums");
        Assert.Contains("clock.img is present", await service.OkAsync("media", "add", file, "--sums", list), StringComparison.Ordinal);
        await FailsAsync(service, "clock.img is there already", "media", "add", file);

        // Who then says that it is something else does not put the right file into quarantine.
        begun = await service.Client.BeginMediaUploadAsync(new("other.img", Content.Length, other), Stop);
        Assert.Equal("quarantined", (await service.Client.SendMediaPartAsync(begun.Id, 0, Content, Stop)).State);
        Assert.Contains("clock.img is present", await service.OkAsync("media", "show", Sha256[..8]), StringComparison.Ordinal);
        Assert.Equal(Content, await File.ReadAllBytesAsync(Path.Combine(service.Data, "media", Sha256), Stop));
        await service.OkAsync("media", "remove", Sha256[..8], "--reason", "tried out");
        Assert.False(File.Exists(Path.Combine(service.Data, "media", Sha256)));
        Assert.Contains("media quarantine", await service.OkAsync("audit", "list", "--subject", "clock.img"), StringComparison.Ordinal);
    }

    [Fact]
    public async Task What_the_catalogue_says_of_a_file_counts_before_it_is_sent()
    {
        await using var service = await ServiceProcess.StartAsync();
        var file = Path.Combine(service.Data, "brae-desktop-8.0.1.img");
        await File.WriteAllBytesAsync(file, Content, Stop);
        await FailsAsync(
            service,
            "; the catalogue says 7502a3b32c996970296a12694e8ae660a512b34a68079d8110b44ff8694c2b7b",
            "media",
            "add",
            file
        );
        var error = await Assert.ThrowsAsync<ServiceException>(() =>
            service.Client.BeginMediaUploadAsync(new("brae-desktop-8.0.1.img", 4), Stop)
        );
        Assert.Equal((409, "media-size"), (error.Status, error.Name));
        Assert.Contains("the catalogue says 3,114,270,720", error.Message, StringComparison.Ordinal);
    }

    [Fact]
    public async Task A_wrong_upload_is_refused_before_anything_is_sent()
    {
        await using var service = await ServiceProcess.StartAsync();
        (string File, long Size, string? Sha256, string Name)[] wrong =
        [
            ("../passwd", 4, null, "media-file"),
            (".hidden", 4, null, "media-file"),
            ("", 4, null, "media-file"),
            ("a.img", 0, null, "media-size"),
            ("a.img", 4, "abc", "media-checksum"),
            ("a.img", 1L << 60, null, "media-space"),
        ];
        foreach (var (file, size, sha256, name) in wrong)
        {
            var error = await Assert.ThrowsAsync<ServiceException>(() =>
                service.Client.BeginMediaUploadAsync(new(file, size, sha256), Stop)
            );
            Assert.Equal(name, error.Name);
        }

        Assert.Empty((await service.Client.MediaAsync(Stop)).Uploads);
    }

    [Fact]
    public async Task An_upload_goes_on_after_the_service_was_killed_and_refuses_a_part_that_does_not_follow()
    {
        await using var service = await ServiceProcess.StartAsync();
        var begun = await service.Client.BeginMediaUploadAsync(new("clock.img", Content.Length, Sha256), Stop);
        await service.Client.SendMediaPartAsync(begun.Id, 0, Content.AsMemory(0, 100_000), Stop);
        await service.KillAsync();
        await service.StartAgainAsync();
        var again = await service.Client.BeginMediaUploadAsync(new("clock.img", Content.Length, Sha256), Stop);
        Assert.Equal((begun.Id, 100_000), (again.Id, again.Received));
        var error = await Assert.ThrowsAsync<ServiceException>(() =>
            service.Client.SendMediaPartAsync(begun.Id, 7, Content.AsMemory(7), Stop)
        );
        Assert.Equal((409, "media-offset"), (error.Status, error.Name));
        Assert.Contains("begins at byte 7, and 100,000 bytes have arrived", error.Message, StringComparison.Ordinal);
        var ended = await service.Client.SendMediaPartAsync(begun.Id, 100_000, Content.AsMemory(100_000), Stop);
        Assert.Equal("present", ended.State);
        error = await Assert.ThrowsAsync<ServiceException>(() => service.Client.SendMediaPartAsync(begun.Id, 0, Content, Stop));
        Assert.Equal(404, error.Status);
    }

    [Fact]
    public async Task The_service_downloads_from_an_allowed_host_alone_goes_on_after_a_cut_and_begins_again_with_another_file()
    {
        using var server = FileServer.Start();
        using var elsewhere = FileServer.Start();
        server.Files["images/clock.img"] = Content;
        server.Redirects["newest/clock.img"] = new(elsewhere.Url, "clock.img");
        elsewhere.Files["clock.img"] = Content;
        await using var service = await ServiceProcess.StartAsync();
        var url = new Uri(server.Url, "images/clock.img").ToString();
        string[] add = ["media", "add", url, "--sha256", Sha256];
        await FailsAsync(service, "may not download from", add);
        await FailsAsync(service, "is no host; expected a name", "setting", "change", "--media-hosts", url, "--reason", "x");
        await service.OkAsync("setting", "change", "--media-hosts", server.Url.Authority, "--reason", "the vendor's mirror");
        Assert.Contains(server.Url.Authority, await service.OkAsync("setting", "show"), StringComparison.Ordinal);
        await FailsAsync(service, "Nothing states the checksum of clock.img", "media", "add", url);
        await FailsAsync(service, "answers 404", "media", "add", url + "x", "--sha256", Sha256);
        var newest = new Uri(server.Url, "newest/clock.img").ToString();
        await FailsAsync(service, $"may not download from {elsewhere.Url.Authority}", "media", "add", newest, "--sha256", Sha256);
        Assert.Empty(elsewhere.Calls);

        // Cut off after a third, it goes on there by itself.
        server.CutAfter = 100_000;
        var begun = await service.Client.DownloadMediaAsync(new(url, Sha256), Stop);
        await UntilAsync(async () => (await service.Client.MediaUploadAsync(begun.Id, Stop))?.Trouble is not null, "it is cut off");
        Assert.Contains("from " + url, await service.OkAsync("media", "list"), StringComparison.Ordinal);
        server.CutAfter = null;
        await UntilAsync(async () => await service.Client.MediaUploadAsync(begun.Id, Stop) is null, "it has ended");
        Assert.Equal("present", (await service.Client.MediaFileAsync("clock.img", Stop)).State);
        Assert.Contains(server.Calls, c => c.From is > 0 and <= 100_000);
        Assert.Equal(Content, await File.ReadAllBytesAsync(Path.Combine(service.Data, "media", Sha256), Stop));

        // The file on the server changes after a cut: nothing of the first one is in the second.
        await service.OkAsync("media", "remove", "clock.img", "--reason", "tried out");
        var other = RandomNumberGenerator.GetBytes(Content.Length);
        server.CutAfter = 100_000;
        begun = await service.Client.DownloadMediaAsync(new(url, Convert.ToHexStringLower(SHA256.HashData(other))), Stop);
        await UntilAsync(async () => (await service.Client.MediaUploadAsync(begun.Id, Stop))?.Trouble is not null, "it is cut off");
        (server.Files["images/clock.img"], server.Tag, server.CutAfter) = (other, "\"second\"", null);
        await UntilAsync(async () => await service.Client.MediaUploadAsync(begun.Id, Stop) is null, "it has ended");
        Assert.Equal("present", (await service.Client.MediaFileAsync("clock.img", Stop)).State);
    }

    [Fact]
    public async Task A_download_with_another_checksum_is_quarantined()
    {
        using var server = FileServer.Start();
        server.Files["clock.img"] = Content;
        await using var service = await ServiceProcess.StartAsync();
        await service.OkAsync("setting", "change", "--media-hosts", "127.0.0.1", "--reason", "the vendor's mirror");
        var url = new Uri(server.Url, "clock.img").ToString();
        var ran = await service.GstairAsync("media", "add", url, "--sha256", new('0', 64));
        Assert.Equal(3, ran.Exit);
        Assert.Contains("clock.img is quarantined", ran.Out, StringComparison.Ordinal);
        Assert.Contains($"found {Sha256}", ran.Out, StringComparison.Ordinal);
    }

    private static Task UntilAsync(Func<Task<bool>> holds, string what) => Eventually.TrueAsync(holds, TimeSpan.FromMinutes(2), () => what);

    private static async Task FailsAsync(ServiceProcess service, string says, params string[] words)
    {
        var ran = await service.GstairAsync(words);
        Assert.Equal(3, ran.Exit);
        Assert.Contains(says, ran.Error, StringComparison.Ordinal);
    }
}
