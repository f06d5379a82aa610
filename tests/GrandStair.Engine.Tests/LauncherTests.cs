using System.Globalization;
using GrandStair.Testing;
using Xunit;

namespace GrandStair.Engine.Tests;

/// <summary>The launcher itself, as it runs on machines: the same file, in a folder of the test's own.</summary>
public sealed class LauncherTests : IDisposable
{
    private static readonly string Launcher = Path.Combine(Repository.Root, "src", "GrandStair.Connections", "Ssh", "launcher.sh");
    private readonly string _home = Directory.CreateTempSubdirectory("grandstair-launcher-").FullName;

    public void Dispose() => Directory.Delete(_home, recursive: true);

    [Fact]
    public async Task An_order_is_done_and_says_how_it_ended()
    {
        Assert.Equal(
            "begun",
            await PostAsync(
                "r1.1.hello.1",
                1,
                "echo \"$GS_GREETING to $GS_MACHINE\"; echo '60 halfway' >> \"$GS_PROGRESS\"; exit 7",
                "GREETING=hello=world\nMACHINE=desk $(touch /tmp/never) 'x'\n"
            )
        );
        var said = await EndedAsync("r1.1.hello.1");
        Assert.Equal("state ended 7", said[0]);
        Assert.Matches("^lasted [0-9]{1,2}$", said[1]);
        Assert.Equal("progress 60 halfway", said[2]);
        Assert.Equal("hello=world to desk $(touch /tmp/never) 'x'\n", Output(said));
        Assert.False(File.Exists("/tmp/never"));
    }

    [Fact]
    public async Task What_an_order_has_printed_is_fetched_from_any_place_on()
    {
        await PostAsync("r1.1.print.1", 1, "printf 'one\\ntwo\\nthree\\n'");
        Assert.Contains("printed 14", await EndedAsync("r1.1.print.1"));
        Assert.Equal("one\ntwo\nthree\n", await PrintedAsync(0, 100));
        Assert.Equal("two", await PrintedAsync(4, 3));
        Assert.Equal("", await PrintedAsync(14, 100));
        Assert.Empty(await RunAsync("output", "r1.1.never.1", "0", "100"));

        async Task<string> PrintedAsync(int from, int most) =>
            System.Text.Encoding.UTF8.GetString(
                Convert.FromBase64String(string.Concat(await RunAsync("output", "r1.1.print.1", $"{from}", $"{most}")))
            );
    }

    [Fact]
    public async Task The_same_attempt_is_never_done_twice_however_often_it_is_posted_at_once()
    {
        var script = $"echo done >> {_home}/count; sleep 1";
        var said = await Task.WhenAll(Enumerable.Range(0, 12).Select(_ => PostAsync("r2.1.once.1", 3, script)));
        Assert.Equal(1, said.Count(s => s == "begun"));
        Assert.Equal(11, said.Count(s => s == "known"));
        await EndedAsync("r2.1.once.1");
        Assert.Equal("known", await PostAsync("r2.1.once.1", 4, script));
        Assert.Single(await File.ReadAllLinesAsync(Path.Combine(_home, "count"), TestContext.Current.CancellationToken));
        Assert.Equal("begun", await PostAsync("r2.1.once.2", 4, script));
        await EndedAsync("r2.1.once.2");
        Assert.Equal(2, (await File.ReadAllLinesAsync(Path.Combine(_home, "count"), TestContext.Current.CancellationToken)).Length);
    }

    [Fact]
    public async Task A_lower_epoch_than_the_run_s_newest_is_refused_and_other_runs_are_not_touched()
    {
        Assert.Equal("begun", await PostAsync("r3.1.a.1", 5, "true"));
        Assert.Equal("epoch 5", await PostAsync("r3.1.b.1", 4, "true"));
        Assert.Equal("state unseen", (await RunAsync("ask", "r3.1.b.1"))[0]);
        Assert.Equal("begun", await PostAsync("r4.1.b.1", 1, "true"));
        Assert.Equal("begun", await PostAsync("r3.1.b.1", 5, "true"));
        await EndedAsync("r3.1.a.1");
        await EndedAsync("r4.1.b.1");
        await EndedAsync("r3.1.b.1");
    }

    [Fact]
    public async Task Work_that_was_killed_is_gone_and_work_of_an_earlier_start_too()
    {
        await PostAsync("r5.1.killed.1", 1, "sleep 60");
        await Eventually.TrueAsync(
            async () => (await RunAsync("ask", "r5.1.killed.1"))[0] == "state running" && File.Exists(Order("r5.1.killed.1", "process")),
            TimeSpan.FromSeconds(10),
            () => "it is running"
        );
        var process = int.Parse(
            (await File.ReadAllTextAsync(Order("r5.1.killed.1", "process"), TestContext.Current.CancellationToken)).Split(' ')[0],
            CultureInfo.InvariantCulture
        );
        // The runner leads its own session; with it goes what it runs.
        await Shell.RunAsync("pkill", ["-KILL", "-s", $"{process}"]);
        Assert.Equal("state gone", (await RunAsync("ask", "r5.1.killed.1"))[0]);

        await PostAsync("r5.1.power.1", 1, "sleep 2");
        await File.WriteAllTextAsync(Order("r5.1.power.1", "boot"), "another-start\n", TestContext.Current.CancellationToken);
        Assert.Equal("state gone", (await RunAsync("ask", "r5.1.power.1"))[0]);
    }

    [Fact]
    public async Task A_script_that_outlives_its_runner_is_running_until_it_ends()
    {
        await PostAsync("r5.1.orphan.1", 1, $"while [ ! -e {_home}/end ]; do sleep 0.1; done");
        await Eventually.TrueAsync(
            () => Task.FromResult(File.Exists(Order("r5.1.orphan.1", "script-process"))),
            TimeSpan.FromSeconds(10),
            () => "the script runs"
        );
        var runner = int.Parse(
            (await File.ReadAllTextAsync(Order("r5.1.orphan.1", "process"), TestContext.Current.CancellationToken)).Split(' ')[0],
            CultureInfo.InvariantCulture
        );
        await Shell.RunAsync("kill", ["-KILL", $"{runner}"]);
        Assert.Equal("state running", (await RunAsync("ask", "r5.1.orphan.1"))[0]);
        await File.WriteAllTextAsync(Path.Combine(_home, "end"), "", TestContext.Current.CancellationToken);
        await Eventually.TrueAsync(
            async () => (await RunAsync("ask", "r5.1.orphan.1"))[0] == "state gone",
            TimeSpan.FromSeconds(10),
            () => "its end without a result shows"
        );
    }

    [Fact]
    public async Task A_restart_has_ended_when_the_machine_has_another_boot_id()
    {
        var folder = Path.Combine(_home, "orders", "r6.1.restart.1");
        Directory.CreateDirectory(folder);
        foreach (
            var (file, text) in new[]
            {
                ("kind", "restart"),
                ("boot", (await File.ReadAllTextAsync("/proc/sys/kernel/random/boot_id", TestContext.Current.CancellationToken)).Trim()),
                ("posts", "0 first"),
                ("process", "1 0"),
            }
        )
            await File.WriteAllTextAsync(Path.Combine(folder, file), text + "\n", TestContext.Current.CancellationToken);
        Assert.Equal("state running", (await RunAsync("ask", "r6.1.restart.1"))[0]);
        await File.WriteAllTextAsync(Path.Combine(folder, "boot"), "the-start-before\n", TestContext.Current.CancellationToken);
        Assert.Equal("state ended 0", (await RunAsync("ask", "r6.1.restart.1"))[0]);
    }

    [Fact]
    public async Task What_a_reading_script_prints_is_bounded_in_time_and_length()
    {
        Assert.Equal(["os.version = 12", "read-ended 0 16"], await ReadAsync("echo 'os.version = 12'"));
        Assert.Equal(["first", "read-ended 124 6"], await ReadAsync("echo first; sleep 30; echo second", seconds: 1));
        var endless = await ReadAsync("yes endless");
        Assert.Equal(999_999, string.Join('\n', endless[..^1]).Length);
        Assert.EndsWith(" 1000001", endless[^1], StringComparison.Ordinal);
    }

    [Theory]
    [InlineData("echo one; exit 3", "read-ended 3 4")]
    [InlineData("echo one; kill -9 $$", "read-ended 137 4")]
    [InlineData("echo one; no-such-command", "read-ended 127 ")]
    public async Task A_reading_script_ends_with_its_own_status(string script, string end)
    {
        var said = await ReadAsync(script);
        Assert.Equal("one", said[0]);
        Assert.StartsWith(end, said[^1], StringComparison.Ordinal);
    }

    [Fact]
    public async Task What_a_reading_script_leaves_running_ends_with_it()
    {
        var said = await ReadAsync($"sleep 300 & echo $! > {_home}/left; echo one");
        Assert.Equal(["one", "read-ended 0 4"], said);
        var left = int.Parse(
            await File.ReadAllTextAsync(Path.Combine(_home, "left"), TestContext.Current.CancellationToken),
            CultureInfo.InvariantCulture
        );
        await Eventually.TrueAsync(
            () => Task.FromResult(!File.Exists($"/proc/{left}/cmdline") || File.ReadAllText($"/proc/{left}/cmdline").Length == 0),
            TimeSpan.FromSeconds(5),
            () => $"process {left} ends"
        );
    }

    [Theory]
    [InlineData(9)]
    [InlineData(40)]
    [InlineData(0)]
    public async Task An_order_whose_payload_was_cut_on_its_way_is_not_begun(int arrived)
    {
        var payload = $"script {Base64($"echo begun > {_home}/begun")}\nvalues {Base64("TOKEN=x\n")}";
        Assert.Equal(["incomplete"], await RunAsync(["post", "r8.1.cut.1", "1", "script", Hash(payload)], payload[..arrived]));
        Assert.Equal(["incomplete"], await RunAsync(["post", "r8.1.cut.1", "1", "script", Hash(payload)], payload.Split('\n')[0] + "\n"));
        Assert.Equal("state unseen", (await RunAsync("ask", "r8.1.cut.1"))[0]);
        Assert.Equal(["begun"], await RunAsync(["post", "r8.1.cut.1", "1", "script", Hash(payload)], payload));
        await EndedAsync("r8.1.cut.1");
        Assert.True(File.Exists(Path.Combine(_home, "begun")));
    }

    [Fact]
    public async Task Only_root_can_look_into_its_folder()
    {
        await PostAsync("r7.1.secret.1", 1, "true", "TOKEN=secret\n");
        await EndedAsync("r7.1.secret.1");
        Assert.Equal(UnixFileMode.UserRead | UnixFileMode.UserWrite, File.GetUnixFileMode(Order("r7.1.secret.1", "values")));
        Assert.Equal(
            UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute,
            File.GetUnixFileMode(Path.Combine(_home, "orders"))
        );
    }

    private static string Base64(string text) => Convert.ToBase64String(System.Text.Encoding.UTF8.GetBytes(text));

    private static string Output(string[] said) =>
        System.Text.Encoding.UTF8.GetString(
            Convert.FromBase64String(said.Single(l => l.StartsWith("output ", StringComparison.Ordinal))[7..])
        );

    private string Order(string name, string file) => Path.Combine(_home, "orders", name, file);

    private static string Hash(string text) =>
        Convert.ToHexStringLower(System.Security.Cryptography.SHA256.HashData(System.Text.Encoding.UTF8.GetBytes(text)));

    private async Task<string> PostAsync(string order, int epoch, string script, string values = "")
    {
        var payload = $"script {Base64(script)}\nvalues {Base64(values)}";
        return (await RunAsync(["post", order, $"{epoch}", "script", Hash(payload)], payload)).Single();
    }

    private Task<string[]> ReadAsync(string script, int seconds = 20) =>
        RunAsync(["read", $"{seconds}", Hash(Base64(script))], Base64(script));

    private async Task<string[]> EndedAsync(string order)
    {
        string[] said = [];
        await Eventually.TrueAsync(
            async () => (said = await RunAsync("ask", order))[0].StartsWith("state ended", StringComparison.Ordinal),
            TimeSpan.FromSeconds(20),
            () => $"{order} ends; it says {string.Join(", ", said)}"
        );
        return said;
    }

    private Task<string[]> RunAsync(params string[] arguments) => RunAsync(arguments, null);

    private async Task<string[]> RunAsync(string[] arguments, string? input)
    {
        var ran = await Shell.RunAsync("/bin/sh", [Launcher, _home, .. arguments], input ?? "");
        Assert.True(ran.Exit == 0, ran.Error);
        return ran.Out.Split('\n', StringSplitOptions.RemoveEmptyEntries);
    }
}
