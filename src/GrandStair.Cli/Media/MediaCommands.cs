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

    public static Command Make() => new("media", "Installation files that machines fetch") { List(), Show(), Add(), Remove() };

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
                        ["file", "state", "#size", "sha-256", "for", "#needed by"],
                        all.Files.Select(f =>
                            new[]
                            {
                                f.File,
                                f.State,
                                Size(f.Size),
                                f.Sha256[..12],
                                string.Join(", ", f.Uses.Select(u => $"{u.Product} {u.Media}").Distinct()),
                                f.OpenRuns == 0 ? "" : $"{f.OpenRuns} run{(f.OpenRuns == 1 ? "" : "s")}",
                            }
                        )
                    );
                foreach (var upload in all.Uploads)
                    screen.Say(
                        $"Being uploaded: **{upload.File}**, {Size(upload.Received)} of {Size(upload.Size)}, begun by {upload.BegunBy}. "
                            + "The same 'gstair media add' continues it."
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
    }

    private static Command Add()
    {
        var file = new Argument<string>("file") { Description = "The file." };
        var sha256 = new Option<string?>("--sha256") { Description = "SHA-256 that the vendor states." };
        var sums = new Option<string?>("--sums") { Description = "File with the vendor's checksums, as sha256sum writes them." };
        var command = new Command(
            "add",
            "Upload a file; one that was cut off continues. Its checksum is compared with the one you state and the catalogue's"
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

    private static Command Remove()
    {
        var reason = new Option<string>("--reason") { Description = "Reason, recorded in the audit log with your name.", Required = true };
        var command = new Command("remove", "Delete a file that no open run needs") { Name, reason };
        command.Calls(
            async (parsed, client, screen, stop) =>
            {
                await client.RemoveMediaAsync(parsed.GetValue(Name)!, parsed.GetValue(reason)!, stop);
                screen.Say($"Media **{parsed.GetValue(Name)}** was removed.");
                return ExitStatus.Done;
            }
        );
        return command;
    }

    private static string Size(long bytes) => Units.Show(bytes, ValueKind.Size);
}
