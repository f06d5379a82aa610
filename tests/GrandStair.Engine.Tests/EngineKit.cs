using System.Collections.Immutable;
using GrandStair.Connections;
using GrandStair.Connections.Simulation;
using GrandStair.Core.Access;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Plans;
using GrandStair.Core.Readings;
using GrandStair.Core.Runs;
using GrandStair.Core.Waves;
using GrandStair.Engine.Catalogue;
using GrandStair.Engine.Clocks;
using GrandStair.Engine.Durations;
using GrandStair.Engine.Duties;
using GrandStair.Engine.Fleet;
using GrandStair.Engine.Plans;
using GrandStair.Engine.Runs;
using GrandStair.Files.Calendars;
using GrandStair.Files.Catalogue;
using GrandStair.Files.Plans;
using GrandStair.Storage.Calendars;
using GrandStair.Storage.Databases;
using GrandStair.Storage.Fleet;
using GrandStair.Storage.Plans;
using GrandStair.Storage.Runs;
using GrandStair.Storage.SupportCases;
using GrandStair.Testing;
using Microsoft.Extensions.Logging.Abstractions;
using Xunit;

namespace GrandStair.Engine.Tests;

/// <summary>
/// The engine on a real database with simulated machines, in this process, so that several workers can be had and cut off.
/// </summary>
internal sealed class EngineKit : IAsyncDisposable
{
    public const string Plan = """
        plan: small
        target: { product: Brae Desktop, release: "7" }
        scope: os.product = "Brae Desktop" and os.version < 7
        methods: [image-in-place]
        waves: [{ name: All }]
        windows: [{ zone: Europe/London, weekly: ["Mon-Sun 00:00-00:00"] }]
        limits: { all: 3, site: 2 }
        advance: { verified: 100 %, failures: 0, soak: 1 d }
        lead: 0 s
        """;

    private readonly string _folder = Directory.CreateTempSubdirectory("grandstair-engine-").FullName;
    private readonly List<(CancellationTokenSource Stop, Task Work)> _workers = [];

    private EngineKit(Database database, DomainClock clock)
    {
        Database = database;
        Clock = clock;
        World = new(Path.Combine(_folder, "simulated.db"));
        Decisions = new(database);
        Fleet = new(new(database), Decisions);
        Plans = new(database);
        Runs = new(database);
        CatalogueCache = new(new Documents(), new(database));
        var calendars = new CalendarTable(database);
        Calendars = new(new Documents(), calendars, clock);
        Approvals = new(Plans, new ApprovalTable(database), Decisions, calendars, CatalogueCache, clock);
        Acknowledgements = new(CatalogueCache, Fleet, Plans, Decisions, clock);
        Measured = new(Runs, Plans, CatalogueCache, Fleet, new(database), clock);
        SupportCases = new(database);
        OtherPlans = new(CatalogueCache, Fleet, Plans, SupportCases, clock);
        Facts = FactsBy(Measured);
        Writer = WriterBy(Measured);
        Commands = new(CatalogueCache, Fleet, Plans, Approvals, Acknowledgements, Decisions, OtherPlans, clock);
        Duties = new(new(new(database)), NullLogger<DutyHost>.Instance);
        RunCommands = new(Runs, Fleet, new(CatalogueCache, Calendars, Plans, clock), clock);
    }

    public Database Database { get; }

    public DomainClock Clock { get; }

    public SimulatedMachines World { get; }

    public FleetCache Fleet { get; }

    public PlanTable Plans { get; }

    public DecisionTable Decisions { get; }

    public RunLog Runs { get; }

    public CatalogueCache CatalogueCache { get; }

    public PlanCommands Commands { get; }

    public RunCommands RunCommands { get; }

    public PlanWriter Writer { get; }

    public PlanFactsReader Facts { get; }

    public OtherPlans OtherPlans { get; }

    public SupportCaseTable SupportCases { get; }

    public PlanApprovals Approvals { get; }

    public PlanAcknowledgements Acknowledgements { get; }

    public CalendarCache Calendars { get; }

    public MeasuredRuns Measured { get; }

    public DutyHost Duties { get; }

    public static CancellationToken Stop => TestContext.Current.CancellationToken;

    /// <summary>
    /// An engine with a database; the catalogue that ships is loaded. Time moves in steps, and only while the test waits for something.
    /// </summary>
    public static Task<EngineKit> StartAsync() => StartAsync(null, b => new(new SteppedTime(b), TimeProvider.System));

    /// <summary>An engine whose time goes by the clock on the wall, so many times as fast.</summary>
    public static Task<EngineKit> StartAsync(double pace, string? database = null, TimeProvider? time = null) =>
        StartAsync(database, b => new(new ClockAnchor(TimeProvider.System.GetUtcNow(), b, pace), time ?? TimeProvider.System));

    private static async Task<EngineKit> StartAsync(string? database, Func<DateTimeOffset, DomainClock> clock)
    {
        var begin = new DateTimeOffset(2027, 1, 11, 12, 0, 0, TimeSpan.Zero);
        var where = database ?? Path.Combine(Directory.CreateTempSubdirectory("grandstair-engine-db-").FullName, "grandstair.db");
        var kit = new EngineKit(await Database.OpenAsync(where, Stop), clock(begin));
        if (kit.Clock.Stepped is { } stepped)
            kit.Database.Written += stepped.NoteChange;
        var files = CatalogueFolder.Load(Path.Combine(Repository.Root, "catalogue", "brae-desktop"));
        await kit.CatalogueCache.LoadAsync([new(CatalogueFolder.Hash(files), "Brae Desktop", files)], begin, Stop);
        return kit;
    }

    /// <summary>Puts simulated machines into the world and the fleet, all alike but for what is said of one.</summary>
    public async Task AddMachinesAsync(int count, Func<int, (string Key, string Value)[]>? but = null)
    {
        var now = Clock.GetUtcNow();
        var reported = new List<ReportedMachine>();
        for (var i = 1; i <= count; i++)
        {
            var truth = new Dictionary<string, string>
            {
                ["os.product"] = "Brae Desktop",
                ["os.edition"] = "Workplace",
                ["os.version"] = "6",
                ["os.build"] = "6.4.9",
                ["hardware.memory"] = "16 GiB",
                ["hardware.processor"] = "Ness 6",
                ["disk.system.free"] = "90 GiB",
                ["network.rate"] = "200 Mbit/s",
                ["power.mains"] = "yes",
                ["backup.last"] = "2027-01-11T01:00:00Z",
                ["firmware.tpm.version"] = "2.0",
                ["firmware.tpm.state"] = "on",
                ["patches.pending"] = "0",
                ["licence.active"] = "yes",
                ["offer.release"] = "-",
                ["driver.printer"] = "4.2",
                ["disk.encryption"] = "on",
                ["services.failed"] = "0",
                ["device.faults"] = "0",
                ["truth.backup"] = "nightly",
            };
            foreach (var (key, value) in but?.Invoke(i) ?? [])
                truth[key] = value;
            World.Add([($"desk-{i}", truth)]);
            var readings = ReadingLines.Parse(
                string.Join('\n', truth.Where(t => t.Value != "-").Select(t => $"{t.Key} = {t.Value}")),
                CatalogueCache.Keys,
                "inventory",
                now,
                out _
            );
            reported.Add(
                new(
                    i + 1,
                    $"desk-{i}",
                    [],
                    $"Site {i % 2}",
                    "",
                    "deck-it",
                    [],
                    new("simulated", "", 22, "root", null),
                    new("inventory", [], readings),
                    now
                )
            );
        }

        await new FleetTable(Database).ImportAsync(reported, "inventory", new("planner"), now, Stop);
    }

    /// <summary>Makes the plan and starts it.</summary>
    public async Task PlanAsync(string? body = null, string name = "small")
    {
        await Writer.CreateAsync(body ?? Plan, new("planner"), SiteScope.All, Stop);
        await Acknowledgements.AcknowledgeAsync((await Plans.FindAsync(name, Stop))!, null, "read", new("planner"), Stop);
        await Commands.StartAsync(name, new("planner"), Stop);
    }

    /// <summary>A writer of plans that knows how long things take from elsewhere than the engine's own.</summary>
    public PlanWriter WriterBy(MeasuredRuns measured) => new(FactsBy(measured), Fleet, Plans, Approvals, Acknowledgements, Clock);

    private PlanFactsReader FactsBy(MeasuredRuns measured) =>
        new(CatalogueCache, Fleet, Plans, Decisions, Runs, measured, Calendars, OtherPlans);

    /// <summary>Starts a worker with a keeper, as a service process would; the source stops it in good order.</summary>
    public CancellationTokenSource StartWorker(IConnection? connection = null)
    {
        var connections = Connections(connection);
        var reader = Reader(connections);
        var keeper = Keeper(connection);
        var scripts = new StepScripts(CatalogueCache, new(Database));
        var links = new NoOrderLinks();
        var worker = new RunWorker(
            Runs,
            Plans,
            OtherPlans,
            Decisions,
            CatalogueCache,
            Fleet,
            reader,
            connections,
            new(connections, new(Database), scripts),
            new(
                CatalogueCache,
                Plans,
                scripts,
                new(new(Database), new(Database), new(Database), links),
                new(new(Database, ""), links),
                new NoSecrets(),
                Clock
            ),
            new(new(Database), new NoSecrets(), Clock),
            new(Database),
            new(Database),
            Clock,
            NullLogger<RunWorker>.Instance
        );
        var stop = new CancellationTokenSource();
        if (Clock.Stepped is { } stepped)
            _ = WithBothAsync(stepped, stepped.Turns + 2, stepped.Run());
        _workers.Add((stop, Task.WhenAll(worker.WorkAsync(stop.Token), Duties.RunAsync(keeper.Duty, stop.Token))));
        return stop;
    }

    /// <summary>Works until a step is asked for, as a service does that is killed before the step's result is written.</summary>
    public Task WorkUntilAskedForAsync(string step) =>
        WorkUntilAsync(r => r.Attempts.ContainsKey($"1/{step}"), $"a step '{step}' is asked for");

    /// <summary>Works until something is true of a run, as a service does that is killed then.</summary>
    public async Task WorkUntilAsync(Func<RunState, bool> reached, string what)
    {
        var killed = StartWorker();
        await UntilAsync(async () => (await StatesAsync()).Any(reached), () => what);
        await killed.CancelAsync();
        await EndedAsync();
    }

    /// <summary>
    /// Waits until the newest worker, which was killed, has ended: where time moves in steps, the next one is told from it by its turns.
    /// </summary>
    public Task EndedAsync() => _workers[^1].Work;

    /// <summary>Keeps time from moving until the worker and the keeper have joined it.</summary>
    private static async Task WithBothAsync(SteppedTime stepped, int turns, IDisposable running)
    {
        using (running)
            while (stepped.Turns < turns)
                await Task.Delay(5, Stop);
    }

    /// <summary>A keeper of plans, to be asked by hand.</summary>
    public PlanKeeper Keeper(IConnection? connection = null) =>
        new(
            Facts,
            Plans,
            Approvals,
            Runs,
            Writer,
            new(Fleet, Reader(Connections(connection)), Clock, NullLogger<MachineRefresh>.Instance),
            new(),
            new(Database),
            Clock,
            NullLogger<PlanKeeper>.Instance
        );

    private ConnectionSet Connections(IConnection? connection) =>
        new(new Dictionary<string, IConnection> { ["simulated"] = connection ?? new SimulatedConnection(World, Clock) });

    private MachineReader Reader(ConnectionSet connections) => new(connections, CatalogueCache, new(Database), new(Database), Fleet, Clock);

    /// <summary>Waits until a plan's members stand as is said.</summary>
    public async Task WaitAsync(Func<IReadOnlyList<Member>, bool> holds, string what)
    {
        IReadOnlyList<Member> members = [];
        var states = ImmutableArray<RunState>.Empty;
        await UntilAsync(
            async () =>
            {
                states = await StatesAsync();
                return holds(members = await Plans.MembersAsync("small", Stop));
            },
            () =>
                $"{what}; they stand at {string.Join(", ", members.Select(m => $"{m.Status} ({m.Why})"))}; runs are at "
                + string.Join(
                    ", ",
                    states.Select(r => $"leg {r.Leg + 1}, {r.Phase}, {r.Outstanding?.Name}, needs slot {r.NeedsSlot}, {r.Parked}")
                )
        );
    }

    /// <summary>Waits until something holds; where time moves in steps, it moves until then and no further.</summary>
    public async Task UntilAsync(Func<Task<bool>> holds, Func<string> what)
    {
        const int mostSteps = 20_000;
        if (Clock.Stepped is not { } stepped)
        {
            await Eventually.TrueAsync(holds, TimeSpan.FromMinutes(3), what);
            return;
        }

        var steps = 0;
        while (steps < mostSteps)
        {
            await stepped.UntilIdleAsync(Stop);
            if (await holds())
                return;
            // Whoever was woken by a write in between looks once more first.
            if (stepped.Step())
                steps++;
            else if (stepped.IsAtItsEnd)
                break;
        }

        throw new TimeoutException($"At {Clock.GetUtcNow():u} it has not come about that {what()}");
    }

    /// <summary>Waits until so many runs ask something of a person.</summary>
    public Task AskedAsync(int runs) =>
        UntilAsync(
            async () => (await StatesAsync()).Count(r => r.AskedOfPerson is not null) == runs,
            () => $"{runs} runs ask something of a person"
        );

    /// <summary>Lets time pass to a moment, where it moves in steps; whatever is due on the way happens.</summary>
    public async Task PassAsync(DateTimeOffset until)
    {
        async Task WaitAsync()
        {
            using var turn = Clock.Stepped!.Join();
            if (Clock.GetUtcNow() < until)
                await turn.PassAsync(until, Stop);
        }

        var waiting = WaitAsync();
        await UntilAsync(() => Task.FromResult(Clock.GetUtcNow() >= until), () => $"it is {until:u}");
        await waiting;
    }

    public async Task<ImmutableArray<RunState>> StatesAsync() => [.. (await Runs.ListAsync("small", Stop)).Select(r => r.State)];

    public async ValueTask DisposeAsync()
    {
        foreach (var (stop, _) in _workers)
            await stop.CancelAsync();
        foreach (var (stop, work) in _workers)
        {
            await work.ContinueWith(_ => { }, TaskScheduler.Default);
            stop.Dispose();
        }

        await Database.DisposeAsync();
        Fleet.Dispose();
        World.Dispose();
        Directory.Delete(_folder, recursive: true);
    }

    internal sealed class Documents : IDocuments
    {
        public Product ReadProduct(CatalogueContent content) => CatalogueFolder.Parse(content.Files, KeyRegistry.BuiltIn);

        public Plan ReadPlan(string body, KeyRegistry keys, Func<string, Product?> product) =>
            PlanFile.Parse(body, keys, product, "plan.yaml");

        public string ChangePlan(string body, IReadOnlyList<string> changes) => PlanText.With(body, changes);

        public ICalendar ReadCalendar(string body, string name, out int events)
        {
            var calendar = CalendarFile.Parse(body, name);
            events = calendar.Events;
            return calendar;
        }
    }
}

/// <summary>A service that no machine can reach.</summary>
internal sealed class NoOrderLinks : Orders.IOrderLinks
{
    public bool IsReachable => false;

    public Orders.OrderLink? LinkFor(Core.Runs.OrderName order, string path) => null;
}

/// <summary>A store without secrets.</summary>
internal sealed class NoSecrets : Secrets.ISecrets
{
    public Task<string> OfAsync(string name, CancellationToken stop) =>
        throw new ConnectionException("secret", $"There is no secret '{name}'.");
}
