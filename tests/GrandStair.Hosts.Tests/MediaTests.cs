using System.Net;
using System.Net.Http.Headers;
using System.Security.Cryptography;
using GrandStair.Testing;
using Xunit;

namespace GrandStair.Hosts.Tests;

/// <summary>A real Debian system fetches media from the running service, and leaves files with it.</summary>
public sealed class MediaTests : HostTests
{
    private const int Size = 24 << 20;
    private const string File1 = "ferry-clock-2.img";
    private const string Folder = "/var/lib/grandstair/media";

    private const string Plan = """
        plan: old-to-new
        target: { product: Ferry Clock, release: "2" }
        scope: os.product = "Ferry Clock"
        methods: [from-image]
        waves: [{ name: Pilot }]
        windows: [{ zone: Europe/London, weekly: ["Mon-Sun 00:00-00:00"] }]
        uplinks: [{ sites: [Westhaven], rate: 64 Mbit/s, share: 50 %, zone: Europe/London, weekly: ["Mon-Sun 00:00-00:00"] }]
        limits: { all: 1 }
        advance: { verified: 100 %, failures: 0, soak: 0 s }
        lead: 0 s
        """;

    private static string Product(string sha256) =>
        $$"""
            product: Ferry Clock
            is: os.product = "Ferry Clock"
            version-key: os.version
            readers: [{ script: read.sh, covers: [os.product, os.version] }]
            releases:
              - { version: "1", name: Ferry Clock 1, support-ends: { "*": 2027-03-31 } }
              - { version: "2", name: Ferry Clock 2, support-ends: { "*": 2031-03-31 } }
            media:
              - name: clock-2
                title: Image of Ferry Clock 2
                variants:
                  - { file: ferry-clock-2-wide.img, sha256: {{new string('0', 64)}}, size: 1 GiB, for: os.version >= 3 }
                  - { file: {{File1}}, sha256: {{sha256}}, size: {{Size >> 20}} MiB }
            hops:
              - name: 1-to-2
                from: ["1"]
                to: "2"
                checks:
                  - { name: runs, title: Ferry Clock 2 runs, wants: os.version >= 2, asked-at: [verification], fix: { by: person, words: Try again. } }
            methods:
              - name: from-image
                title: Fetch the image and install it
                hops: [1-to-2]
                preserves: full
                steps:
                  - { name: clean, title: Remove old media, phase: stage, kind: clean-up }
                  - { name: fetch, title: Fetch the image, phase: stage, kind: fetch-media, media: clock-2, limit: 10 min }
                  - { name: save, title: Save settings, phase: protect, kind: save-files, files: [/etc/ferry-clock.d/*.conf, /etc/no-such-file] }
                  - { name: apply, title: Install it, phase: apply, kind: script, script: apply.sh, point-of-no-return: true }
                  - { name: restore, title: Put the settings back, phase: verify, kind: restore-files, with: save }
                rollback: { words: There is none, lasts: 1 h }
            """;

    [Fact]
    public async Task Media_is_fetched_through_a_wrong_checksum_and_a_cut_and_settings_are_saved_and_put_back()
    {
        await using var host = await TestHost.StartAsync("gs-media", "127.0.0.55", "bookworm");
        var image = RandomNumberGenerator.GetBytes(Size);
        var sha256 = Convert.ToHexStringLower(SHA256.HashData(image));
        await using var service = await ServiceProcess.StartAsync("--ssh-key", host.KeyFile, "--catalogue", await CatalogueAsync(sha256));
        await host.DoAsync(
            "mkdir /etc/ferry-clock.d && echo ours > '/etc/ferry-clock.d/a b.conf' && echo same > /etc/ferry-clock.d/c.conf"
        );
        await host.DoAsync("chown carrier '/etc/ferry-clock.d/a b.conf' && chmod 640 '/etc/ferry-clock.d/a b.conf'");
        await host.DoAsync($"echo 1 > /etc/ferry-clock && mkdir -p {Folder}/0123 && echo old > {Folder}/0123/old.img");
        // What lies there under the right name, as large as it should be, is still not the image.
        await host.DoAsync($"head -c {Size} /dev/zero > {Folder}/{sha256}.part");
        await ImportAsync(service, host, "root");
        await service.OkAsync("machine", "read", host.Name);
        await PlanAsync(service, Plan);

        // Not added yet: the run says which file, and how to add it.
        var parked = await WaitAsync(service, r => r.Parked is not null, "the run is parked");
        Assert.Contains($"the service does not have {File1} ({sha256}); add it with 'gstair media add {File1}'", parked.Run.Parked);
        Assert.Equal("sha", await host.DoAsync($"ls {Folder} | sed 's/{sha256}.part/sha/'"));
        await AddInTwoPartsAsync(service, image, sha256);
        Assert.Contains("Needed by 1 open run: r1", await service.OkAsync("media", "show", sha256[..8]), StringComparison.Ordinal);
        var refused = await service.GstairAsync("media", "remove", File1, "--reason", "space");
        Assert.Equal(3, refused.Exit);
        Assert.Contains("is needed by 1 open run, such as r1", refused.Error, StringComparison.Ordinal);

        await RetryAsync(service);
        parked = await WaitAsync(service, r => r.Parked is not null, "the run is parked");
        Assert.Contains($"does not match: expected {sha256}, found ", parked.Run.Parked, StringComparison.Ordinal);

        // The connection to the service is cut while it fetches, at the half of the uplink.
        await RetryAsync(service);
        // It is stopped on the host itself, where some of it is fetched: seen from here, all of it may be there already.
        await host.DoAsync(
            $$"""
            n=0
            until [ "$(stat -c %s {{Folder}}/{{sha256}}.part 2>/dev/null || echo 0)" -gt 1048576 ]; do
                n=$((n + 1))
                [ "$n" -lt 1200 ] || exit 1
                sleep 0.05
            done
            pkill -STOP -x curl
            """
        );
        var token = await TokenAsync(host);
        await AssertServedToNobodyElseAsync(service, image, sha256, token);
        await host.DoAsync("pkill -KILL -x curl");
        parked = await WaitAsync(service, r => r.Parked is not null, "the run is parked");
        Assert.Matches($"was cut off after [0-9]+ of {Size} bytes; the next attempt continues there", parked.Run.Parked);

        await ContinueFromRepositoryAsync(service, image);
        var verified = await WaitAsync(service, r => r.Verified is not null, "the run is verified");
        await AssertNotParkedAsync(host, verified);
        Assert.Contains($"On 1 machine: {host.Name}", await service.OkAsync("media", "show", sha256[..8]), StringComparison.Ordinal);
        Assert.Matches(
            $"{File1} fetched \\(24 MiB\\) from http://[^ ]*/{File1}; its SHA-256 matches: {sha256}",
            string.Join('\n', verified.Log.Select(l => l.Detail))
        );
        Assert.Equal(sha256, (await host.DoAsync("sha256sum < /installed.img"))[..64]);
        Assert.Equal(HttpStatusCode.Forbidden, (await GetAsync(service, sha256, token)).Status);
        await service.OkAsync("media", "remove", File1, "--reason", "all have it");
        await AssertSettingsAreBackAsync(service, host);
    }

    /// <summary>
    /// The site gets a repository of its own, at first without the file: the run says so. With it, the machine continues from there what it
    /// fetched from the service.
    /// </summary>
    private static async Task ContinueFromRepositoryAsync(ServiceProcess service, byte[] image)
    {
        using var repository = FileServer.Start();
        await service.OkAsync("media", "set-repository", "westhaven", repository.Url + "images", "--reason", "it is nearer");
        await RetryAsync(service);
        var parked = await WaitAsync(service, r => r.Parked is not null, "the run is parked");
        Assert.Contains($"could not be fetched: {repository.Url}images/{File1} refuses it", parked.Run.Parked, StringComparison.Ordinal);
        repository.Files[$"images/{File1}"] = image;
        await RetryAsync(service);
        await WaitAsync(service, r => r.Verified is not null, "the run is verified");
        Assert.Contains(repository.Calls, c => c.From > 1 << 20);
        Assert.Contains(repository.Url.ToString(), await service.OkAsync("media", "repositories"), StringComparison.Ordinal);
        await service.OkAsync("media", "remove-repository", "Westhaven", "--reason", "tried out");
    }

    /// <summary>Settings that the upgrade replaced are as they were, and what it had put there is beside them.</summary>
    private static async Task AssertSettingsAreBackAsync(ServiceProcess service, TestHost host)
    {
        Assert.Equal(
            "ours carrier 640",
            await host.DoAsync("cd /etc/ferry-clock.d && echo $(cat 'a b.conf') $(stat -c '%U %a' 'a b.conf')")
        );
        Assert.Equal("new", await host.DoAsync("cat '/etc/ferry-clock.d/a b.conf.~1~'"));
        Assert.Equal("a b.conf a b.conf.~1~ c.conf", await host.DoAsync("cd /etc/ferry-clock.d && echo *"));
        Assert.Equal("", await host.DoAsync("ls /run | grep ^tmp || true"));

        // Kept encrypted, for people who have to put one back by hand; a change of the keys does not lose it.
        await service.OkAsync("secret", "rotate");
        var file = Path.Combine(service.Data, "saved.tar.gz");
        await service.OkAsync("run", "saved-files", "r1", "--step", "save", "--out", file);
        Assert.Equal("ours", (await Shell.RunAsync("tar", ["-xzOf", file, "etc/ferry-clock.d/a b.conf"])).Out.Trim());
        var archive = await File.ReadAllBytesAsync(file, Stop);
        var kept = await File.ReadAllBytesAsync(Path.Combine(service.Data, "media", "saved", "r1.1.save"), Stop);
        Assert.DoesNotContain(Convert.ToHexString(archive[..20]), Convert.ToHexString(kept), StringComparison.Ordinal);
        Assert.Contains((await Shell.RunAsync("sha256sum", [file])).Out[..12], await service.OkAsync("run", "saved-files", "r1"));
    }

    private static async Task<string> CatalogueAsync(string sha256)
    {
        var folder = Directory.CreateTempSubdirectory("grandstair-catalogue-").FullName;
        var product = Directory.CreateDirectory(Path.Combine(folder, "ferry-clock")).FullName;
        await File.WriteAllTextAsync(Path.Combine(product, "product.yaml"), Product(sha256), Stop);
        await File.WriteAllTextAsync(
            Path.Combine(product, "read.sh"),
            "echo 'os.product = Ferry Clock'\necho \"os.version = $(cat /etc/ferry-clock)\"\n",
            Stop
        );
        await File.WriteAllTextAsync(
            Path.Combine(product, "apply.sh"),
            "cp \"$GS_MEDIA_CLOCK_2\" /installed.img && echo 2 > /etc/ferry-clock && echo new > /etc/ferry-clock.d/'a b.conf'\n",
            Stop
        );
        return folder;
    }

    /// <summary>Sends a beginning as an upload that is cut off; the client continues there.</summary>
    private static async Task AddInTwoPartsAsync(ServiceProcess service, byte[] image, string sha256)
    {
        var file = Path.Combine(service.Data, File1);
        await File.WriteAllBytesAsync(file, image, Stop);
        var begun = await service.Client.BeginMediaUploadAsync(new(File1, Size, sha256), Stop);
        await service.Client.SendMediaPartAsync(begun.Id, 0, image.AsMemory(0, 5_000_000), Stop);
        Assert.Contains("4.8 MiB of 24 MiB", await service.OkAsync("media", "list"), StringComparison.Ordinal);
        Assert.Contains($"**{File1}** is present".Replace("*", "", StringComparison.Ordinal), await service.OkAsync("media", "add", file));
    }

    /// <summary>The token of the order, out of the memory of the process that fetches.</summary>
    private static async Task<string> TokenAsync(TestHost host)
    {
        var token = "";
        await Eventually.TrueAsync(
            async () =>
                (
                    token = await host.DoAsync(
                        "for p in $(pgrep -x curl); do tr '\\0' '\\n' < /proc/$p/environ | sed -n s/^GS_SECRET_ORDER_TOKEN=//p; done"
                    )
                ).Length > 0,
            TimeSpan.FromMinutes(1),
            () => "the host fetches"
        );
        Assert.Equal(
            "",
            await host.DoAsync("grep -rl CfDJ[8] /var/lib/grandstair /proc/[0-9]*/cmdline 2>/dev/null | grep -v /self/ || true")
        );
        return token;
    }

    private static async Task AssertServedToNobodyElseAsync(ServiceProcess service, byte[] image, string sha256, string token)
    {
        var served = await GetAsync(service, sha256, token);
        Assert.Equal(HttpStatusCode.PartialContent, served.Status);
        Assert.Equal(image[100..200], served.Content);
        Assert.Equal($"\"{sha256}\"", served.Tag);
        Assert.Equal($"sha-256=:{Convert.ToBase64String(SHA256.HashData(image))}:", served.Digest);
        foreach (var other in new[] { null, "", "nonsense", token[..^2] })
            Assert.Equal(HttpStatusCode.Forbidden, (await GetAsync(service, sha256, other)).Status);
        Assert.Equal(HttpStatusCode.Forbidden, (await GetAsync(service, new string('0', 64), token)).Status);
    }

    private static async Task<(HttpStatusCode Status, byte[] Content, string? Tag, string? Digest)> GetAsync(
        ServiceProcess service,
        string sha256,
        string? token
    )
    {
        using var http = new HttpClient { BaseAddress = service.Client.Service };
        using var request = new HttpRequestMessage(HttpMethod.Get, $"/media/{sha256}") { Headers = { Range = new(100, 199) } };
        if (token is not null)
            request.Headers.Authorization = new AuthenticationHeaderValue("Order", token);
        using var response = await http.SendAsync(request, Stop);
        return (
            response.StatusCode,
            await response.Content.ReadAsByteArrayAsync(Stop),
            response.Headers.ETag?.Tag,
            response.Headers.TryGetValues("Repr-Digest", out var digests) ? digests.Single() : null
        );
    }
}
