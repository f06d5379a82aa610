using System.CommandLine;
using System.Globalization;
using System.Security.Cryptography;
using GrandStair.Client;
using GrandStair.Contracts;
using GrandStair.Core.Readings;
using GrandStair.Files;
using GrandStair.Files.Checksums;

namespace GrandStair.Cli.Media;

internal static class MediaCommands
{
    private static readonly Argument<string> Name = new("media") { Description = "File name, or the beginning of its SHA-256." };

    private static readonly Argument<string> Site = new("site") { Description = "The site." };
    private static readonly Option<string> Reason = new("--reason")
    {
        Description = "Reason, recorded in the audit log with your name.",
        Required = true,
    };

    public static Command Make() =>
        new("media", "Installation files that machines fetch")
        {
            List(),
            Show(),
            Add(),
            Remove(),
            Repositories(),
            SetRepository(),
            RemoveRepository(),
        };

    private static Command List()
    {
        var command = new Command("list", "List the files that the service has, and those that the catalogue says it should have");
        command.Asks(
            (_, client, stop) => client.MediaAsync(stop),
            (all, screen) =>
            {
                if (all.Files.Count == 0)
                    screen.Say("There is no media, and the catalogue names none; 'gstair media add FILE' brings a file in.");
                else
                    screen.Table(
                        ["file", "state", "#size", "sha-256", "for", "#needed by", "#on"],
                        all.Files.Select(f =>
                            new[]
                            {
                                f.File,
                                f.State,
                                Size(f.Size),
                                f.Sha256[..12],
                                string.Join(", ", f.Uses.Select(u => $"{u.Product} {u.Media}").Distinct()),
                                f.OpenRuns == 0 ? "" : $"{f.OpenRuns} run{(f.OpenRuns == 1 ? "" : "s")}",
                                f.OnMachines == 0 ? "" : $"{f.OnMachines} machine{(f.OnMachines == 1 ? "" : "s")}",
                            }
                        )
                    );
                foreach (var upload in all.Uploads)
                    screen.Say(
                        upload.Url is null
                            ? $"Being uploaded: **{upload.File}**, {Size(upload.Received)} of {Size(upload.Size)}, begun by "
                                + $"{upload.BegunBy}. The same 'gstair media add' continues it."
                            : $"Being downloaded: **{upload.File}**, {Size(upload.Received)} of {Size(upload.Size)}, from {upload.Url}"
                                + (upload.Trouble is { } trouble ? $"; cut off: {trouble}. The service tries again." : ".")
                    );
                if (all.Files.Count(f => f.State == "missing") is > 0 and var missing)
                    screen.Hint($"{missing} missing: runs that need one are parked until 'gstair media add FILE' brings it in.");
                screen.Hint($"{Size(all.Free)} free on the service's disk.");
            }
        );
        return command;
    }

    private static Command Show()
    {
        var command = new Command("show", "Show one file: its checksum, the machines it is for, and the runs that need it") { Name };
        command.Asks((parsed, client, stop) => client.MediaFileAsync(parsed.GetValue(Name)!, stop), Print);
        return command;
    }

    private static void Print(MediaRow file, Screen screen)
    {
        screen.Say($"**{file.File}** is {file.State}: {Size(file.Size)} ({file.Size.ToString("N0", CultureInfo.InvariantCulture)} bytes)");
        screen.Say($"SHA-256 {file.Sha256}");
        if (file.Why is { } why)
            screen.Say($"Quarantined: {why}");
        if (file.Added is not null)
            screen.Say($"Added {Screen.Time(file.Added)} by {file.AddedBy}");
        foreach (var use in file.Uses)
            screen.Say($"{use.Product}, media {use.Media}: for {use.For}");
        if (file.OpenRuns > 0)
            screen.Say($"Needed by {Screen.Many(file.OpenRuns, "open run")}: {string.Join(", ", file.Runs)}");
        if (file.OnMachines > 0)
            screen.Say(
                $"On {Screen.Many(file.OnMachines, "machine")}: {string.Join(", ", file.Machines)}"
                    + (file.OnMachines > file.Machines.Count ? ", …" : "")
            );
    }

    private static Command Add()
    {
        var file = new Argument<string>("file") { Description = "The file, or the URL from which the service downloads it itself." };
        var sha256 = new Option<string?>("--sha256") { Description = "SHA-256 that the vendor states." };
        var sums = new Option<string?>("--sums") { Description = "File with the vendor's checksums, as sha256sum writes them." };
        var command = new Command(
            "add",
            "Upload a file, or let the service download it; what was cut off continues. Its checksum is compared with the one you state "
                + "and the catalogue's"
        )
        {
            file,
            sha256,
            sums,
        };
        command.Calls(
            async (parsed, client, screen, stop) =>
            {
                var path = parsed.GetValue(file)!;
                if (Uri.TryCreate(path, UriKind.Absolute, out var url) && url.Scheme is "http" or "https")
                {
                    var listed = await ListedAsync(parsed.GetValue(sums), url.LocalPath, stop);
                    var downloaded = await DownloadAsync(client, new(path, parsed.GetValue(sha256) ?? listed), stop);
                    if (!Caller.PrintedAsJson(parsed, downloaded))
                        Print(downloaded, screen);
                    return downloaded.State == "present" ? ExitStatus.Done : ExitStatus.NotPossible;
                }

                var stated = parsed.GetValue(sha256)?.ToLowerInvariant() ?? await ListedAsync(parsed.GetValue(sums), path, stop);
                await using var content = File.OpenRead(path);
                var hash = Convert.ToHexStringLower(await SHA256.HashDataAsync(content, stop));
                if (stated is not null && stated != hash)
                    throw new FileException([
                        new(path, 1, 0, $"Its SHA-256 is {hash}; expected {stated}. Nothing was sent; get the file from its vendor again."),
                    ]);
                var ended = await SendAsync(client, content, new(Path.GetFileName(path), content.Length, hash), stop);
                if (!Caller.PrintedAsJson(parsed, ended))
                    screen.Say($"**{ended.File}** is {ended.State}: {Size(ended.Size)}, SHA-256 {ended.Sha256}");
                return ended.State == "present" ? ExitStatus.Done : ExitStatus.NotPossible;
            }
        );
        return command;
    }

    private static async Task<string?> ListedAsync(string? list, string path, CancellationToken stop)
    {
        if (list is null)
            return null;
        var sums = ChecksumList.Parse(await File.ReadAllTextAsync(list, stop), list);
        var name = Path.GetFileName(path);
        return sums.GetValueOrDefault(name)
            ?? throw new FileException([
                new(list, 1, 0, $"It has no line for '{name}'{Spelling.DidYouMean(name, sums.Keys, "; expected one.")}"),
            ]);
    }

    /// <summary>Sends a file part by part, from where an earlier upload of it was cut off.</summary>
    private static async Task<MediaUploadView> SendAsync(
        GrandStairClient client,
        FileStream content,
        MediaUploadCommand begin,
        CancellationToken stop
    )
    {
        const int Part = 16 << 20;
        var upload = await client.BeginMediaUploadAsync(begin, stop);
        var buffer = new byte[Part];
        while (upload.State == "receiving")
        {
            content.Position = upload.Received;
            var length = await content.ReadAtLeastAsync(buffer, Part, throwOnEndOfStream: false, stop);
            upload = await client.SendMediaPartAsync(upload.Id, upload.Received, buffer.AsMemory(0, length), stop);
            Terminal.Progress($"{upload.File}: {Size(upload.Received)} of {Size(upload.Size)} sent");
        }

        Terminal.Progress("");
        return upload;
    }

    /// <summary>Lets the service download a file, and shows how far it is until it has ended.</summary>
    private static async Task<MediaRow> DownloadAsync(GrandStairClient client, MediaDownloadCommand download, CancellationToken stop)
    {
        var every = TimeSpan.FromSeconds(1);
        var begun = await client.DownloadMediaAsync(download, stop);
        for (MediaUploadView? upload = begun; upload is not null; upload = await client.MediaUploadAsync(begun.Id, stop))
        {
            var trouble = upload.Trouble is { } why ? $"; cut off: {why}; the service tries again" : "";
            Terminal.Progress($"{upload.File}: {Size(upload.Received)} of {Size(upload.Size)} downloaded{trouble}");
            await Task.Delay(every, stop);
        }

        Terminal.Progress("");
        return (await client.MediaAsync(stop)).Files.Where(f => f.File == begun.File).MaxBy(f => f.Added)
            ?? throw new IOException($"The download of {begun.File} was discarded.");
    }

    private static Command Repositories()
    {
        var command = new Command("repositories", "List the sites whose machines fetch media from a repository of their own");
        command.Asks(
            (_, client, stop) => client.MediaAsync(stop),
            (all, screen) =>
                screen.Table(
                    ["site", "url", "set by", "since"],
                    all.Repositories.Select(r => new[] { r.Site, r.Url, r.SetBy, Screen.Time(r.At) })
                )
        );
        return command;
    }

    private static Command SetRepository()
    {
        var url = new Argument<string>("url")
        {
            Description = "URL below which the files lie, each under its file name, such as http://media.linsay.example/images.",
        };
        var command = new Command("set-repository", "Let the machines of a site fetch media from a repository there (admins only)")
        {
            Site,
            url,
            Reason,
        };
        command.Calls(
            async (parsed, client, screen, stop) =>
            {
                await client.SetRepositoryAsync(parsed.GetValue(Site)!, new(parsed.GetValue(url)!, parsed.GetValue(Reason)!), stop);
                screen.Say($"The machines of **{parsed.GetValue(Site)}** fetch media from **{parsed.GetValue(url)}** now.");
                return ExitStatus.Done;
            }
        );
        return command;
    }

    private static Command RemoveRepository()
    {
        var command = new Command("remove-repository", "Let the machines of a site fetch media from the service again (admins only)")
        {
            Site,
            Reason,
        };
        command.Calls(
            async (parsed, client, screen, stop) =>
            {
                await client.RemoveRepositoryAsync(parsed.GetValue(Site)!, parsed.GetValue(Reason)!, stop);
                screen.Say($"The machines of **{parsed.GetValue(Site)}** fetch media from the service again.");
                return ExitStatus.Done;
            }
        );
        return command;
    }

    private static Command Remove()
    {
        var command = new Command("remove", "Delete a file that no open run needs") { Name, Reason };
        command.Calls(
            async (parsed, client, screen, stop) =>
            {
                await client.RemoveMediaAsync(parsed.GetValue(Name)!, parsed.GetValue(Reason)!, stop);
                screen.Say($"Media **{parsed.GetValue(Name)}** was removed.");
                return ExitStatus.Done;
            }
        );
        return command;
    }

    private static string Size(long bytes) => Units.Show(bytes, ValueKind.Size);
}
