using System.Globalization;
using System.Text;
using GrandStair.Connections.Simulation;
using GrandStair.Core.Access;
using GrandStair.Core.Outcomes;
using GrandStair.Core.Plans;
using GrandStair.Core.Readings;
using GrandStair.Core.Refusals;
using GrandStair.Core.SupportCases;
using GrandStair.Engine.Catalogue;
using GrandStair.Engine.Clocks;
using GrandStair.Engine.Duties;
using GrandStair.Engine.Plans;
using GrandStair.Engine.SupportCases;
using GrandStair.Files.Fleet;
using GrandStair.Service.Fleet;
using GrandStair.Storage.Access;
using GrandStair.Storage.Fleet;
using GrandStair.Storage.Media;
using GrandStair.Storage.Plans;
using GrandStair.Storage.SupportCases;

namespace GrandStair.Service.Demo;

/// <summary>Lays out the demo's world at its first start: the simulated machines, the fleet and the plan, which begins.</summary>
internal static class NorthmereStart
{
    /// <summary>When the demo's calendar begins.</summary>
    public static readonly DateTimeOffset Begin = new(2027, 1, 11, 7, 0, 0, TimeSpan.Zero);

    private static readonly Actor Planner = new("planner", "demo");

    /// <summary>The plan that the demo starts.</summary>
    public const string PlanName = "winter-crossing";

    // The plans of the infrastructure, which begin beside it.
    private static readonly (string File, string Name)[] OtherPlans =
    [
        ("vault.yaml", "vault-nodes"),
        ("gateways.yaml", "gateways-and-radios"),
        ("ticketing.yaml", "ticketing"),
    ];

    /// <summary>
    /// Loads the demo's data and starts its plan. What a start that was killed has done already is left as it is, and the rest is done.
    /// </summary>
    public static async Task PrepareAsync(IServiceProvider services, ServiceOptions options, CancellationToken stop)
    {
        var plans = services.GetRequiredService<PlanTable>();
        if (await plans.FindAsync(PlanName, stop) is { State: not PlanStatus.Drafted })
            return;
        var table = services.GetRequiredService<FleetTable>();
        var clock = services.GetRequiredService<DomainClock>();
        var catalogues = services.GetRequiredService<CatalogueCache>();
        var commands = services.GetRequiredService<PlanCommands>();
        var world = services.GetRequiredService<SimulatedMachines>();
        var now = clock.GetUtcNow();
        foreach (
            var simulated in Directory
                .GetFiles(options.Demo!, "*simulated.csv")
                .Select(f => Path.GetFileName(f))
                .Order(StringComparer.Ordinal)
        )
        {
            var fleet = simulated == "simulated.csv" ? "fleet.csv" : simulated.Replace("-simulated", "", StringComparison.Ordinal);
            world.Add(SimulatedMachineFile.Read(Path.Combine(options.Demo!, simulated)));
            using var reader = new StreamReader(Path.Combine(options.Demo!, fleet), Encoding.UTF8);
            var file = new FleetFile(reader, fleet, new("inventory"), catalogues.Keys, now);
            await table.ImportAsync(file.Lines(), "inventory", Planner, now, stop);
        }

        await AddAccountsAsync(
            services.GetRequiredService<AccountTable>(),
            (await services.GetRequiredService<Engine.Fleet.FleetCache>().AllAsync(stop)).Values,
            now,
            stop
        );
        await AddMediaAsync(services, catalogues, now, stop);
        foreach (var calendar in Directory.GetFiles(options.Demo!, "*.ics").Order(StringComparer.Ordinal))
            await services
                .GetRequiredService<CalendarCache>()
                .PutAsync(Path.GetFileNameWithoutExtension(calendar), await File.ReadAllTextAsync(calendar, stop), Planner, stop);
        var written = await WriteAsync("plan.yaml", PlanName);
        await services
            .GetRequiredService<PlanAcknowledgements>()
            .AcknowledgeAsync(written, null, "read, and talked over with the terminals", Planner, stop);
        await OpenCaseAsync(services, now, stop);
        foreach (var (file, name) in OtherPlans)
            if (await WriteAsync(file, name) is { State: PlanStatus.Drafted })
                await commands.StartAsync(name, Planner, stop);
        await commands.StartAsync(PlanName, Planner, stop);

        async Task<PlanRecord> WriteAsync(string file, string name)
        {
            if (await plans.FindAsync(name, stop) is { } kept)
                return kept;
            var body = await File.ReadAllTextAsync(Path.Combine(options.Demo!, file), stop);
            await services.GetRequiredService<PlanWriter>().CreateAsync(body, Planner, SiteScope.All, stop);
            return (await plans.FindAsync(name, stop))!;
        }
    }

    /// <summary>
    /// What the plans install from: files of nothing but zeros, which have the size and the checksum that the catalogue says and take no
    /// space. The image of Brae Desktop 8, which no plan needs yet, is still to be added.
    /// </summary>
    private static async Task AddMediaAsync(
        IServiceProvider services,
        CatalogueCache catalogues,
        DateTimeOffset now,
        CancellationToken stop
    )
    {
        var folder = services.GetRequiredService<MediaFolder>();
        var table = services.GetRequiredService<MediaTable>();
        foreach (
            var variant in catalogues.Products.Values.SelectMany(p => p.Media).Where(m => m.Name != "desktop-8").SelectMany(m => m.Variants)
        )
        {
            await using (var file = new FileStream(folder.PathOf(variant.Sha256), FileMode.Create))
                file.SetLength(variant.Size);
            await table.AddAsync(new(variant.Sha256, variant.File, variant.Size, now, Planner.Name, null), Planner, stop);
        }

        // This terminal has files of its own, so that nothing goes over its line.
        await services
            .GetRequiredService<SiteRepositoryTable>()
            .SetAsync(new("Linsay", new("http://media.linsay.example/images"), Planner.Name, now), "nearer", Planner, stop);
    }

    /// <summary>Two machines of the same model whose security chip does not stay on, about which support has asked for something.</summary>
    private static async Task OpenCaseAsync(IServiceProvider services, DateTimeOffset now, CancellationToken stop)
    {
        if ((await services.GetRequiredService<SupportCaseTable>().AllAsync(stop)).Count > 0)
            return;
        var cases = services.GetRequiredService<SupportCaseCommands>();
        var fleet = services.GetRequiredService<Engine.Fleet.FleetCache>();
        var opened = await cases.OpenAsync(
            new(
                0,
                "BR-20417",
                "Brae support desk",
                "The security chip is off again after each restart",
                [(await fleet.FindAsync("desk-e-007", stop))!.Id, (await fleet.FindAsync("desk-s-004", stop))!.Id],
                now,
                Planner.Name
            ),
            Planner,
            stop
        );
        await cases.BookAsync(opened, now.AddDays(10).AddHours(3), TimeSpan.FromHours(1), null, Planner, stop);
        await cases.NoteAsync(opened.Id, SupportCaseState.WithUs, "They ask for the support bundle of both machines.", Planner, stop);
    }

    /// <summary>
    /// The accounts of Northmere Ferries. None has a password; the planner, who is logged in by the demo's link, may set them.
    /// </summary>
    private static async Task AddAccountsAsync(
        AccountTable accounts,
        IEnumerable<Core.Readings.Machine> fleet,
        DateTimeOffset now,
        CancellationToken stop
    )
    {
        async Task AddAsync(string name, AccountKind kind, Roles roles, SiteScope sites, string reason)
        {
            if (await accounts.FindAsync(name, stop) is null)
                await accounts.PutAsync(
                    new(name, kind, roles, sites, null, false, null, now, "", null, null),
                    isNew: true,
                    new("demo"),
                    reason,
                    now,
                    stop
                );
        }

        await AddAsync(
            Planner.Name,
            AccountKind.Person,
            RoleNames.Every,
            SiteScope.All,
            "plans the winter crossing, and keeps the demo's accounts"
        );
        await AddAsync(
            "change-board",
            AccountKind.Person,
            Roles.Reader | Roles.Approver,
            SiteScope.All,
            "takes responsibility for what goes on in spite of a check"
        );
        await AddAsync("auditor", AccountKind.Person, Roles.Reader | Roles.Auditor, SiteScope.All, "looks at who did what");
        await AddAsync("wall-screen", AccountKind.Program, Roles.Reader, SiteScope.All, "shows the overview in the control room");
        foreach (var owner in fleet.Where(m => m.Owner.Length > 0).GroupBy(m => m.Owner))
            await AddAsync(
                owner.Key,
                AccountKind.Person,
                Roles.Reader | Roles.Operator,
                SiteScope.Of(owner.Select(m => m.Site)),
                "sees to the machines at these sites"
            );
    }
}

/// <summary>
/// The people of Northmere Ferries: they fix what can be fixed, decide about parked runs, close follow-ups, and exempt what
/// cannot go. They know what the console shows and no more, and act by the same commands as everybody.
/// </summary>
internal sealed class NorthmerePeople(
    ServiceOptions options,
    DomainClock clock,
    SimulatedMachines world,
    PlanTable plans,
    PlanCommands commands,
    Engine.Runs.RunCommands runCommands,
    Storage.Runs.RunLog runs,
    Engine.Fleet.FleetCache fleet,
    CatalogueCache catalogues,
    AccessTable access,
    DutyHost duties,
    ILogger<NorthmerePeople> log
) : BackgroundService
{
    private const string Plan = NorthmereStart.PlanName;

    // How long passes between two looks.
    private static readonly TimeSpan BetweenLooks = TimeSpan.FromHours(1);

    // How long after it is found each thing is seen to, at the earliest.
    private static readonly TimeSpan ToAnswer = TimeSpan.FromMinutes(30);
    private static readonly TimeSpan ToDecide = TimeSpan.FromHours(5);
    private static readonly TimeSpan ToFix = TimeSpan.FromHours(30);
    private static readonly TimeSpan ToCloseFollowUp = TimeSpan.FromHours(40);
    private static readonly TimeSpan ToReport = TimeSpan.FromHours(6);

    // What a person reported, and what a script does if somebody runs it.
    private static readonly TimeSpan ToCloseReport = TimeSpan.FromDays(12);

    // The machine of the pilot of which the owner reports something.
    private const string Reported = "desk-l-008";

    // The machine of the pilot that goes back to its previous release.
    private const string GoesBack = "office-c-015";
    private static readonly TimeSpan ToGoBack = TimeSpan.FromHours(30);
    private static readonly TimeSpan ToCategorise = TimeSpan.FromDays(3);
    private readonly Dictionary<string, DateTimeOffset> _found = [];
    private readonly Dictionary<long, int> _tries = [];
    private bool _hasSaidWhere;

    protected override Task ExecuteAsync(CancellationToken stoppingToken) => duties.RunAsync("demo-people", ActAsync, stoppingToken);

    private async Task ActAsync(CancellationToken stoppingToken)
    {
        await PassPilotAsync(stoppingToken);
        if (!_hasSaidWhere)
            await SayWhereAsync(stoppingToken);
        _hasSaidWhere = true;
        await UntilAsync(() => Task.FromResult(false), stoppingToken);
    }

    /// <summary>Works, look after look, until something holds.</summary>
    private async Task UntilAsync(Func<Task<bool>> holds, CancellationToken stop)
    {
        using var turn = clock.Stepped!.Join();
        while (!await holds())
        {
            var isOver = await WorkAsync(stop);
            await turn.PassAsync(isOver ? null : clock.GetUtcNow() + BetweenLooks, stop);
        }
    }

    /// <summary>Lets the pilot wave pass as fast as the machine can, then goes on at the pace that was asked for.</summary>
    private async Task PassPilotAsync(CancellationToken stop)
    {
        var pace = clock.Pace;
        if ((await plans.FindAsync(Plan, stop))!.Waves[0].State == WaveState.Passed)
            return;
        log.LogInformation("The pilot wave runs in simulated time, a few seconds long");
        clock.SetPace(double.PositiveInfinity);
        await UntilAsync(async () => (await plans.FindAsync(Plan, stop))!.Waves[0].State == WaveState.Passed, stop);
        clock.SetPace(pace);
    }

    private async Task SayWhereAsync(CancellationToken stop)
    {
        var secret = AccessTable.NewSecret();
        await access.AddLoginLinkAsync(secret, "planner", DateTimeOffset.UtcNow.AddHours(12), stop);
        // Standard output, not the log: the demo's script and its tests look for this line.
        await Console.Out.WriteLineAsync(
            $"Console: {(options.TlsCertificate is null ? "http" : "https")}://127.0.0.1:{options.Port}/login/{secret}"
        );
    }

    /// <summary>One look at all that there is to do.</summary>
    /// <returns>Whether nothing comes to be done by itself any more.</returns>
    private async Task<bool> WorkAsync(CancellationToken stop)
    {
        try
        {
            var now = clock.GetUtcNow();
            var stored = (await plans.FindAsync(Plan, stop))!;
            if (stored.State != PlanStatus.Started || stored.Held is not null)
                return true;
            foreach (var run in await runs.ListAsync(null, stop))
                await (run.State.Plan == Plan ? SeeToRunAsync(run.State, now, stop) : AnswerAsync(run.State, now, stop));
            var open = stored.Waves.Where(w => w.State != WaveState.Waiting).Select(w => w.Number).ToHashSet();
            foreach (var member in (await plans.MembersAsync(Plan, stop)).Where(m => open.Contains(m.Wave)))
                await SeeToMemberAsync(member, now, stop);
        }
        catch (RefusedException error)
        {
            // The worker was faster; they look again.
            log.LogDebug("{Why}", error.Message);
        }

        return false;
    }

    /// <summary>They do what a run of another plan asks for.</summary>
    private async Task AnswerAsync(Core.Runs.RunState run, DateTimeOffset now, CancellationToken stop)
    {
        if (run.AskedOfPerson is null || !IsTime($"answer {run.Outstanding!.Name}", ToAnswer, now))
            return;
        var by = new Actor("terminal-it", "demo");
        await runCommands.AnswerAsync(run.Run, run.WaitingStep!.Name, true, "tried; all of it works", by, stop);
    }

    private async Task SeeToRunAsync(Core.Runs.RunState run, DateTimeOffset now, CancellationToken stop)
    {
        var machine = (await fleet.AllAsync(stop))[new(run.Machine)];
        if (run.Parked is { } parked && IsTime($"park r{run.Run} {run.Events}", ToDecide, now))
        {
            var tries = _tries[run.Run] = _tries.GetValueOrDefault(run.Run) + 1;
            if (parked.Contains("printer driver", StringComparison.Ordinal))
                world.Set(machine.Name, "driver.printer", "4.2");
            if (parked.Contains(" is missing", StringComparison.Ordinal))
                world.PutBack(machine.Name);
            if (parked.Contains("Mains", StringComparison.Ordinal))
                world.Set(machine.Name, "power.mains", "yes");
            Fix(machine.Name, parked, now);
            var possible = Core.Runs.RunMachine.Possible(run);
            var decision =
                possible.Contains(Core.Runs.Decision.Wait) ? Core.Runs.Decision.Wait
                : tries <= 3 && possible.Contains(Core.Runs.Decision.Retry) ? Core.Runs.Decision.Retry
                : possible.Contains(Core.Runs.Decision.RollBack) ? Core.Runs.Decision.RollBack
                : possible.Contains(Core.Runs.Decision.GiveUp) ? Core.Runs.Decision.GiveUp
                : Core.Runs.Decision.Cancel;
            var reason = decision switch
            {
                Core.Runs.Decision.Retry => "fixed what was in the way",
                Core.Runs.Decision.Wait => "it still moves",
                _ => "it did not get better",
            };
            await runCommands.DecideAsync(run.Run, decision, reason, atOnce: false, new(machine.Owner, "demo"), stop);
        }

        await ReportAsync(run, machine, now, stop);
        await GoBackAsync(run, machine, now, stop);
        foreach (
            var end in run.FollowUps.Where(l =>
                l.Closed is null
                && (run.Verified ?? run.Closed) is not null
                && IsTime($"end r{run.Run} {l.Name}", l.AddedBy is null && l.Script is null ? ToCloseFollowUp : ToCloseReport, now)
            )
        )
        {
            world.Set(machine.Name, "device.faults", "0");
            await runCommands.CloseFollowUpAsync(run.Run, end.Name, "driver put on again", new(machine.Owner, "demo"), stop);
        }
    }

    /// <summary>The owner of one machine reports what is wrong with it, and it is given to somebody, who is late with it.</summary>
    private async Task ReportAsync(Core.Runs.RunState run, Machine machine, DateTimeOffset now, CancellationToken stop)
    {
        if (machine.Name != Reported || run.Phase != Core.Catalogue.Phase.Settle || !IsTime($"report r{run.Run}", ToReport, now))
            return;
        var owner = new Actor($"owner {machine.Owner}", "demo");
        if (run.FollowUps.FirstOrDefault(f => f.AddedBy == owner.Name) is not { } report)
            await runCommands.AddFollowUpAsync(run.Run, "The boarding list prints in the wrong tray", "", null, null, owner, stop);
        else if (report.Owner is null)
            await runCommands.AssignFollowUpAsync(
                run.Run,
                report.Name,
                f => f with { Owner = "terminal-it", Due = DateOnly.FromDateTime(now.UtcDateTime).AddDays(3) },
                new("planner", "demo"),
                stop
            );
    }

    /// <summary>One machine goes back to its previous release, and the planner says later what kind of reason that was.</summary>
    private async Task GoBackAsync(Core.Runs.RunState run, Machine machine, DateTimeOffset now, CancellationToken stop)
    {
        if (machine.Name != GoesBack)
            return;
        if (
            run.RollbackUntil is not null
            && IsTime($"back r{run.Run}", ToGoBack, now)
            // Once is enough: when the printer is repaired, it is upgraded again.
            && (await runs.ListAsync(Plan, stop)).Count(r => r.State.Machine == run.Machine) == 1
        )
            await runCommands.DecideAsync(
                run.Run,
                Core.Runs.Decision.RollBack,
                "The timetable printer prints every second page only",
                atOnce: false,
                new(machine.Owner, "demo"),
                stop
            );
        else if (
            run is { Outcome: Core.Runs.Outcome.RolledBack, RollbackCategory: null }
            && IsTime($"categorise r{run.Run}", ToCategorise, now)
        )
            await runCommands.CategoriseRollbackAsync(run.Run, "printing", new("planner", "demo"), stop);
    }

    private async Task SeeToMemberAsync(Member member, DateTimeOffset now, CancellationToken stop)
    {
        if (member.Status is not (Status.NotReady or Status.Stopped))
            return;
        var machine = (await fleet.AllAsync(stop))[member.Machine];
        if (!IsTime($"member {member.Machine} {member.Run}", ToFix + TimeSpan.FromHours(member.Machine.Value % 40), now))
            return;
        if (member.Status == Status.Stopped)
            await commands.AgainAsync(Plan, machine, "looked at it by hand", new(machine.Owner, "demo"), stop);
        else if (member.CannotBeFixed)
            await commands.ExemptAsync(Plan, machine, Exemption.Replaced, "a new machine is on order", null, new("planner", "demo"), stop);
        else
            Fix(machine.Name, member.Why ?? "", now);
        // What was done may not have been enough: they come back to it.
        _found.Remove($"member {member.Machine} {member.Run}");
    }

    /// <summary>Does by hand what the fix of a check says.</summary>
    private void Fix(string machine, string why, DateTimeOffset now)
    {
        var checks = catalogues.Products["Brae Desktop"].Hops[0].Checks;
        foreach (var check in checks.Where(c => why.Contains(c.Title, StringComparison.Ordinal)))
        {
            (string Key, string Value)? done = check.Name switch
            {
                "memory" => ("hardware.memory", "16 GiB"),
                "security-chip" => ("firmware.tpm.state", "on"),
                "space" => ("disk.system.free", "58 GiB"),
                "patched" => ("patches.pending", "0"),
                "licence" => ("licence.active", "yes"),
                "backup" => ("backup.last", now.ToString("yyyy-MM-ddTHH:mm:ssZ", CultureInfo.InvariantCulture)),
                "protection-back" => ("disk.encryption", "on"),
                _ => null,
            };
            if (done is { } change)
                world.Set(machine, change.Key, change.Value);
        }
    }

    /// <summary>Whether something was found long enough ago to be seen to.</summary>
    private bool IsTime(string what, TimeSpan after, DateTimeOffset now)
    {
        if (!_found.TryGetValue(what, out var found))
            _found[what] = found = now;
        return now - found > after;
    }
}
