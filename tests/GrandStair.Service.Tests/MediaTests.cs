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

    private static async Task FailsAsync(ServiceProcess service, string says, params string[] words)
    {
        var ran = await service.GstairAsync(words);
        Assert.Equal(3, ran.Exit);
        Assert.Contains(says, ran.Error, StringComparison.Ordinal);
    }
}
