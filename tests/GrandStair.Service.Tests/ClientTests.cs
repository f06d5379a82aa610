using System.Text.Json;
using GrandStair.Testing;
using Xunit;

namespace GrandStair.Service.Tests;

/// <summary>The client against a running service, and against what goes wrong.</summary>
public sealed class ClientTests(SmallFleet fleet) : IClassFixture<SmallFleet>
{
    /// <summary>The machines that the fleet begins with; other tests here add more.</summary>
    private const string Desks = "name like \"desk-*\"";

    private ServiceProcess Service => fleet.Service;

    [Theory]
    [InlineData("site = \"Eastness\"", "desk-3 desk-4 desk-6")]
    [InlineData("os.version < 7 and firmware.tpm.state = on", "desk-1 desk-3 desk-5")]
    [InlineData("name like \"desk-[1]\" or site like \"quay*\"", "desk-5")]
    [InlineData("firmware.tpm.state is known and not tag = pilot", "desk-2 desk-3 desk-5 desk-6")]
    public async Task A_condition_lists_the_machines_that_match(string condition, string names)
    {
        var ran = await Service.GstairProcessAsync("fleet", "list", condition, "--json");
        Assert.Equal(0, ran.Exit);
        Assert.Equal(
            names,
            string.Join(
                ' ',
                JsonDocument.Parse(ran.Out).RootElement.GetProperty("items").EnumerateArray().Select(m => m.GetProperty("name").GetString())
            )
        );
    }

    [Fact]
    public async Task A_gate_says_what_was_found_what_is_required_and_the_fix()
    {
        var ran = await Service.GstairProcessAsync("machine", "gate", "desk-2");
        Assert.Contains(
            "desk-2 to Brae Desktop 7: the gate is blocked: Security chip 2.0 present and on",
            ran.Out,
            StringComparison.Ordinal
        );
        Assert.Matches(@"found +firmware\.tpm\.state = no, \d+ (s|min) ago, by import", ran.Out);
        Assert.Contains("required  firmware.tpm.version >= 2.0 and firmware.tpm.state = on", ran.Out, StringComparison.Ordinal);
        Assert.Contains("fix       Switch it on in the firmware menu, page Security. (person, 10 min)", ran.Out, StringComparison.Ordinal);
        Assert.Contains("update-channel not possible: it does not suit", ran.Out, StringComparison.Ordinal);
    }

    [Fact]
    public async Task A_gate_that_cannot_be_told_is_undecided_and_a_missing_route_is_told()
    {
        var undecided = await Service.GstairProcessAsync("machine", "gate", "desk-4", "--json");
        var gate = JsonDocument.Parse(undecided.Out).RootElement;
        var chip = gate.GetProperty("checks").EnumerateArray().Single(c => c.GetProperty("name").GetString() == "security-chip");
        Assert.Equal("unknown", chip.GetProperty("state").GetString());
        Assert.Equal("update-channel", gate.GetProperty("method").GetString());
        Assert.Contains(
            "no upgrade path: edition 'Kiosk' cannot upgrade by hop 6-to-7",
            (await Service.GstairProcessAsync("machine", "gate", "desk-5")).Out,
            StringComparison.Ordinal
        );
        Assert.Contains(
            "runs Brae Desktop 7 already",
            (await Service.GstairProcessAsync("machine", "gate", "desk-6")).Out,
            StringComparison.Ordinal
        );
    }

    [Fact]
    public async Task Readiness_counts_every_machine_once_and_each_number_leads_to_its_machines()
    {
        var view = await Service.Client.ReadinessAsync("Brae Desktop", null, null, Desks, TestContext.Current.CancellationToken);
        Assert.Equal(view.Machines, view.Arrived + view.Open + view.Undecided + view.Blocked);
        Assert.Equal((6, 1, 1), (view.Machines, view.Arrived, view.Open));
        foreach (var check in view.Checks)
        {
            var unmet = await Service.Client.ReadinessMachinesAsync(
                "Brae Desktop",
                null,
                null,
                Desks,
                check.Name,
                "unmet",
                null,
                TestContext.Current.CancellationToken
            );
            Assert.Equal(check.Unmet, unmet.Total);
        }

        Assert.Equal(1, view.Checks.Single(c => c.Name == "security-chip").Opens);
        Assert.Equal(1, view.Reasons.Sum(r => r.Machines));
    }

    [Fact]
    public async Task A_broken_line_is_told_the_rest_is_taken_and_the_exit_status_says_so()
    {
        var file = fleet.Service.Write(
            "name,site,connection,os.version\nextra-1,Holm Pier,simulated,6.4\nextra-2,Holm Pier\nextra-3,Holm Pier,pigeon,6.4\n",
            "broken.csv"
        );
        var dry = await Service.GstairProcessAsync("fleet", "import", file, "--seen", "now", "--dry-run");
        Assert.Contains("1 would be added", dry.Out, StringComparison.Ordinal);
        Assert.Contains(
            "0 machines",
            (await Service.GstairProcessAsync("fleet", "list", "site = \"Holm Pier\"")).Out,
            StringComparison.Ordinal
        );
        var ran = await Service.GstairProcessAsync("fleet", "import", file, "--seen", "now");
        Assert.Equal(9, ran.Exit);
        Assert.Contains("1 added, 0 updated, 2 problems", ran.Out, StringComparison.Ordinal);
        Assert.Contains($"{file}:3: The line has 2 cells, expected 4", ran.Error, StringComparison.Ordinal);
        Assert.Contains($"{file}:4: 'extra-3': connection is 'pigeon', expected ssh or simulated", ran.Error, StringComparison.Ordinal);
        Assert.Contains(
            "1 machine",
            (await Service.GstairProcessAsync("fleet", "list", "site = \"Holm Pier\"")).Out,
            StringComparison.Ordinal
        );
    }

    [Fact]
    public async Task An_older_export_is_taken_in_its_encoding_by_a_mapping_and_json_lines_by_their_name()
    {
        var export = Path.Combine(Service.Data, "export.csv");
        await File.WriteAllBytesAsync(
            export,
            [.. "Hostname;Standort;RAM\nkasse-1;Caf\u00e9 Corran;16\n".Select(c => (byte)c)],
            TestContext.Current.CancellationToken
        );
        var mapping = fleet.Service.Write(
            "columns: { name: Hostname, site: Standort, hardware.memory: { column: RAM, unit: GiB } }\nconstants: { connection: "
                + "simulated, os.product: Brae Desktop }\n",
            "mapping.yaml"
        );
        var wrong = await Service.GstairProcessAsync(
            "fleet",
            "import",
            export,
            "--mapping",
            fleet.Service.Write("columns: { name: Host }\n", "other.yaml"),
            "--encoding",
            "windows-1252",
            "--seen",
            "now"
        );
        var unsaid = await Service.GstairProcessAsync("fleet", "import", export, "--mapping", mapping, "--seen", "now");
        Assert.Contains("This line is not in UTF-8. Nothing was imported.", unsaid.Error, StringComparison.Ordinal);
        var utf8 = fleet.Service.Write("name,site\nkasse-0,Café Corran\n", "utf8.csv");
        Assert.Contains(
            "The file is in UTF-8 and was said to be in windows-1252",
            (await Service.GstairProcessAsync("fleet", "import", utf8, "--encoding", "windows-1252")).Error,
            StringComparison.Ordinal
        );
        var many = fleet.Service.Write(
            "name,site,hardware.memory\n" + string.Concat(Enumerable.Range(1, 1100).Select(i => $"kasse-x{i},Corran,much\n")),
            "many.csv"
        );
        var grouped = await Service.GstairProcessAsync("fleet", "import", many, "--seen", "now", "--dry-run");
        Assert.Contains("1,100 problems", grouped.Out, StringComparison.Ordinal);
        Assert.Contains(
            "many.csv:2: 1,100 × values of hardware.memory, first in this line: 'kasse-x1': hardware.memory is 'much', expected",
            grouped.Error,
            StringComparison.Ordinal
        );
        Assert.Contains("The mapping speaks of a column 'Host', which the file has not", wrong.Error, StringComparison.Ordinal);
        Assert.DoesNotContain(await Service.Client.ImportsAsync(TestContext.Current.CancellationToken), i => i.Ended is null);
        Assert.Contains(
            "expected utf-8 or windows-1252",
            (await Service.GstairProcessAsync("fleet", "import", export, "--encoding", "latin", "--seen", "now")).Error,
            StringComparison.Ordinal
        );
        Assert.Contains(
            "1 added",
            (
                await Service.GstairProcessAsync(
                    "fleet",
                    "import",
                    export,
                    "--mapping",
                    mapping,
                    "--encoding",
                    "windows-1252",
                    "--seen",
                    "now"
                )
            ).Out,
            StringComparison.Ordinal
        );
        var machine = await Service.Client.MachineAsync("kasse-1", TestContext.Current.CancellationToken);
        Assert.Equal(
            ("Caf\u00e9 Corran", "16 GiB"),
            (machine.Machine.Site, machine.Readings.Single(r => r.Key == "hardware.memory").Shown)
        );

        var lines = fleet.Service.Write(
            "{\"name\": \"kasse-2\", \"site\": \"Corran\", \"connection\": \"simulated\", \"apps\": [{\"name\": \"Ledger\", "
                + "\"version\": \"8.2\"}]}\n{\"name\": \n",
            "more.jsonl"
        );
        var taken = await Service.GstairProcessAsync("fleet", "import", lines, "--seen", "now");
        Assert.Equal(9, taken.Exit);
        Assert.Contains($"{lines}:2: The line is no JSON object", taken.Error, StringComparison.Ordinal);
        Assert.Contains(
            "1 machine",
            (await Service.GstairProcessAsync("fleet", "list", "apps has (name = Ledger and version < 9)")).Out,
            StringComparison.Ordinal
        );
    }

    [Fact]
    public async Task Tables_fit_eighty_columns_and_names_stay_whole()
    {
        foreach (
            var words in new[]
            {
                new[] { "fleet", "list" },
                ["run", "list"],
                ["readiness", "show", "--product", "Brae Desktop"],
                ["audit", "list"],
            }
        )
        {
            var ran = await Shell.RunAsync(
                "dotnet",
                [Repository.Built("GrandStair.Cli", "gstair"), .. words],
                environment: [("GSTAIR_DATA", Service.Data), ("COLUMNS", "80")]
            );
            Assert.Equal(0, ran.Exit);
            Assert.All(ran.Out.Split('\n'), line =>
                Assert.True(line.Length <= 80, $"gstair {string.Join(' ', words)}: '{line}' has {line.Length} characters")
            );
            if (words[0] == "fleet")
                Assert.Contains("desk-1 ", ran.Out, StringComparison.Ordinal);
        }
    }

    [Fact]
    public async Task A_program_gets_errors_as_json_and_ctrl_c_ends_what_waits_without_a_word()
    {
        var failed = await Service.GstairProcessAsync("plan", "show", "no-such-thing", "--json");
        using var document = System.Text.Json.JsonDocument.Parse(failed.Out);
        Assert.Equal(4, document.RootElement.GetProperty("error").GetProperty("exitStatus").GetInt32());
        Assert.Equal((4, ""), (failed.Exit, failed.Error));
        var watched = await Shell.RunAsync(
            "timeout",
            ["--preserve-status", "-s", "INT", "6", "dotnet", Repository.Built("GrandStair.Cli", "gstair"), "run", "watch"],
            environment: ("GSTAIR_DATA", Service.Data)
        );
        Assert.Equal((130, ""), (watched.Exit, watched.Error));
    }

    [Theory]
    [InlineData("bash")]
    [InlineData("zsh")]
    [InlineData("fish")]
    [InlineData("powershell")]
    public async Task Every_shell_has_a_script_that_asks_for_completions(string shell) =>
        Assert.Contains("complete \"--word=", await Service.OkAsync("completion", shell), StringComparison.Ordinal);

    [Theory]
    [InlineData("fl", "fleet ", "gstair")]
    [InlineData("--li", "--limit ", "gstair", "fleet", "list")]
    [InlineData("desk-", "desk-1 |desk-2 |desk-3 |desk-4 |desk-5 |desk-6 ", "gstair", "machine", "show")]
    [InlineData("site = East", "site = Eastness and|site = Eastness or|site = Eastness and not", "gstair", "fleet", "list")]
    [InlineData("firmware.tpm", "firmware.tpm.state|firmware.tpm.version", "gstair", "readiness", "show", "--where")]
    [InlineData("no such thing", "", "gstair", "machine", "show")]
    public async Task The_shell_completes_commands_names_and_conditions(string word, string offers, params string[] before)
    {
        var script = string.Join(
            '\n',
            $"gstair() {{ dotnet '{Repository.Built("GrandStair.Cli", "gstair")}' \"$@\"; }}",
            "compopt() { :; }",
            "source <(gstair completion bash)",
            $"COMP_WORDS=({string.Join(' ', before.Append(word).Select(w => $"'{w}'"))}) COMP_CWORD={before.Length}",
            $"_gstair gstair '{word}' ''",
            "IFS='|'; echo \"${COMPREPLY[*]}\""
        );
        var ran = await Shell.RunAsync("bash", ["-c", script], environment: ("GSTAIR_DATA", Service.Data));
        Assert.Equal("", ran.Error);
        Assert.Equal(offers, ran.Out.TrimEnd('\n'));
    }

    [Theory]
    [InlineData(4, "did you mean 'desk-1'", "machine", "show", "dekk-1")]
    [InlineData(
        3,
        "There is no key 'firmwre.tpm.state'; did you mean 'firmware.tpm.state'? (column 1)",
        "fleet",
        "list",
        "firmwre.tpm.state = on"
    )]
    [InlineData(4, "There is no plan 'no-such-thing'", "plan", "show", "no-such-thing")]
    [InlineData(4, "There is no run r99", "run", "show", "r99")]
    [InlineData(4, "a run is written like r118", "run", "show", "99")]
    [InlineData(4, "did you mean 'Brae Desktop'", "readiness", "show", "--product", "Bray Desktop")]
    [InlineData(3, "/no/such/file.csv", "fleet", "import", "/no/such/file.csv")]
    [InlineData(2, "Unknown command 'lisst' of 'gstair fleet'. Did you mean 'list'?", "fleet", "lisst")]
    [InlineData(2, "Unknown option '--limt' of 'gstair fleet list'. Did you mean '--limit'?", "fleet", "list", "--limt", "3")]
    [InlineData(2, "needs a command: import, imports, undo, list", "fleet")]
    [InlineData(2, "--reason", "plan", "hold", "winter")]
    [InlineData(7, "There is no simulated machine named desk-1", "machine", "read", "desk-1")]
    public async Task What_is_wrong_is_told_with_what_to_do_and_an_exit_status(int exit, string says, params string[] arguments)
    {
        var ran = await Service.GstairProcessAsync(arguments);
        Assert.Equal(exit, ran.Exit);
        Assert.Contains(says, ran.Error, StringComparison.OrdinalIgnoreCase);
        Assert.DoesNotContain("   at ", ran.Error, StringComparison.Ordinal);
        Assert.Empty(ran.Out);
    }

    [Fact]
    public async Task A_stopped_service_and_a_wrong_token_are_told()
    {
        var stopped = await Service.GstairProcessAsync("fleet", "list", "--service", "http://127.0.0.1:9");
        Assert.Equal(6, stopped.Exit);
        Assert.Contains("No service answers at http://127.0.0.1:9", stopped.Error, StringComparison.Ordinal);
        var wrong = await Shell.RunAsync(
            "dotnet",
            [Repository.Built("GrandStair.Cli", "gstair"), "fleet", "list"],
            environment: [("GSTAIR_DATA", Service.Data), ("GSTAIR_TOKEN", "wrong")]
        );
        Assert.Equal(5, wrong.Exit);
        Assert.Contains("This token or session is not known", wrong.Error, StringComparison.Ordinal);
        var none = await Shell.RunAsync(
            "dotnet",
            [Repository.Built("GrandStair.Cli", "gstair"), "fleet", "list"],
            environment: ("GSTAIR_DATA", "/nowhere")
        );
        Assert.Contains("There is no token: /nowhere has no admin.token", none.Error, StringComparison.Ordinal);
    }

    [Fact]
    public async Task A_wrong_plan_is_refused_whole_with_line_and_column()
    {
        var file = fleet.Service.Write(
            SmallFleet
                .Plan.Replace("image-in-place", "image-in-plaec", StringComparison.Ordinal)
                .Replace("os.version < 7", "os.versio < 7", StringComparison.Ordinal),
            "wrong.yaml"
        );
        var ran = await Service.GstairProcessAsync("plan", "create", file);
        Assert.Equal(3, ran.Exit);
        Assert.Contains("line 3, column 8", ran.Error, StringComparison.Ordinal);
        Assert.Contains("did you mean 'image-in-place'", ran.Error, StringComparison.Ordinal);
        Assert.Equal(0, (await Service.GstairProcessAsync("plan", "check", fleet.Service.Write(SmallFleet.Plan, "good.yaml"))).Exit);
        Assert.Empty(await Service.Client.PlansAsync(TestContext.Current.CancellationToken));
    }

    [Fact]
    public async Task Every_command_has_a_help_and_the_catalogue_is_listed()
    {
        foreach (var noun in new[] { "fleet", "machine", "readiness", "plan", "run", "outcome", "overview", "catalogue" })
            Assert.Equal(0, (await Service.GstairProcessAsync(noun, "--help")).Exit);
        Assert.Contains("2027-03-31", (await Service.GstairProcessAsync("catalogue", "list")).Out, StringComparison.Ordinal);
        Assert.Contains("packages.held", (await Service.GstairProcessAsync("catalogue", "keys")).Out, StringComparison.Ordinal);
        Assert.Contains(
            "Debian is well formed",
            (await Service.GstairProcessAsync("catalogue", "validate", Path.Combine(Repository.Root, "catalogue", "debian"))).Out,
            StringComparison.Ordinal
        );
    }
}
