using System.Globalization;
using GrandStair.Testing;
using Xunit;

namespace GrandStair.Engine.Tests;

/// <summary>The launcher itself, as it runs on machines: the same file, in a folder of the test's own.</summary>
public sealed class LauncherTests : IDisposable
{
    private static readonly string Launcher = Path.Combine(Repository.Root, "src", "GrandStair.Links", "Ssh", "launcher.sh");
    private readonly string _home = Directory.CreateTempSubdirectory("grandstair-launcher-").FullName;

    public void Dispose() => Directory.Delete(_home, recursive: true);

    [Fact]
    public async Task An_order_is_done_and_says_how_it_ended()
    {
        Assert.Equal("begun", await PostAsync("r1.1.hello.1", 1, "echo \"$GS_GREETING to $GS_MACHINE\"; echo '60 halfway' >> \"$GS_PROGRESS\"; exit 7", "GREETING=hello=world\nMACHINE=desk $(touch /tmp/never) 'x'\n"));
        var said = await EndedAsync("r1.1.hello.1");
        Assert.Equal("state ended 7", said[0]);
        Assert.Matches("^lasted [0-9]{1,2}$", said[1]);
        Assert.Equal("progress 60 halfway", said[2]);
        Assert.Equal("hello=world to desk $(touch /tmp/never) 'x'\n", Output(said));
        Assert.False(File.Exists("/tmp/never"));
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
        await Eventually.TrueAsync(async () => (await RunAsync("ask", "r5.1.killed.1"))[0] == "state under-way" && File.Exists(Order("r5.1.killed.1", "process")), TimeSpan.FromSeconds(10), () => "it is under way");
        var process = int.Parse((await File.ReadAllTextAsync(Order("r5.1.killed.1", "process"), TestContext.Current.CancellationToken)).Split(' ')[0], CultureInfo.InvariantCulture);
        // The runner leads its own session; with it goes what it runs.
        await Shell.RunAsync("pkill", ["-KILL", "-s", $"{process}"]);
        Assert.Equal("state gone", (await RunAsync("ask", "r5.1.killed.1"))[0]);

        await PostAsync("r5.1.power.1", 1, "sleep 2");
        await File.WriteAllTextAsync(Order("r5.1.power.1", "boot"), "another-start\n", TestContext.Current.CancellationToken);
        Assert.Equal("state gone", (await RunAsync("ask", "r5.1.power.1"))[0]);
    }

    [Fact]
    public async Task A_restart_has_ended_when_the_machine_has_another_boot_id()
    {
        var folder = Path.Combine(_home, "orders", "r6.1.restart.1");
        Directory.CreateDirectory(folder);
        foreach (var (file, text) in new[] { ("kind", "restart"), ("boot", (await File.ReadAllTextAsync("/proc/sys/kernel/random/boot_id", TestContext.Current.CancellationToken)).Trim()), ("posts", "0 first"), ("process", "1 0") })
            await File.WriteAllTextAsync(Path.Combine(folder, file), text + "\n", TestContext.Current.CancellationToken);
        Assert.Equal("state under-way", (await RunAsync("ask", "r6.1.restart.1"))[0]);
        await File.WriteAllTextAsync(Path.Combine(folder, "boot"), "the-start-before\n", TestContext.Current.CancellationToken);
        Assert.Equal("state ended 0", (await RunAsync("ask", "r6.1.restart.1"))[0]);
    }

    [Fact]
    public async Task What_a_reading_script_prints_is_bounded_in_time_and_length()
    {
        Assert.Equal(["os.version = 12"], await RunAsync(["read", "20"], Base64("echo 'os.version = 12'")));
        var slow = await Shell.RunAsync("/bin/sh", [Launcher, _home, "read", "1"], Base64("echo first; sleep 30; echo second"));
        Assert.Equal("first\n", slow.Out);
        var endless = await Shell.RunAsync("/bin/sh", [Launcher, _home, "read", "20"], Base64("yes endless"));
        Assert.Equal(1_000_000, endless.Out.Length);
    }

    [Fact]
    public async Task Only_root_can_look_into_its_folder()
    {
        await PostAsync("r7.1.secret.1", 1, "true", "TOKEN=secret\n");
        await EndedAsync("r7.1.secret.1");
        Assert.Equal(UnixFileMode.UserRead | UnixFileMode.UserWrite, File.GetUnixFileMode(Order("r7.1.secret.1", "values")));
        Assert.Equal(UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute, File.GetUnixFileMode(Path.Combine(_home, "orders")));
    }

    private static string Base64(string text) => Convert.ToBase64String(System.Text.Encoding.UTF8.GetBytes(text));

    private static string Output(string[] said) => System.Text.Encoding.UTF8.GetString(Convert.FromBase64String(said.Single(l => l.StartsWith("output ", StringComparison.Ordinal))[7..]));

    private string Order(string name, string file) => Path.Combine(_home, "orders", name, file);

    private async Task<string> PostAsync(string order, int epoch, string script, string values = "") =>
        (await RunAsync(["post", order, $"{epoch}", "script"], $"script {Base64(script)}\nvalues {Base64(values)}\n")).Single();

    private async Task<string[]> EndedAsync(string order)
    {
        string[] said = [];
        await Eventually.TrueAsync(async () => (said = await RunAsync("ask", order))[0].StartsWith("state ended", StringComparison.Ordinal), TimeSpan.FromSeconds(20), () => $"{order} ends; it says {string.Join(", ", said)}");
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
