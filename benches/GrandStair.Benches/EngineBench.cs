using System.Collections.Immutable;
using System.Diagnostics;
using System.Globalization;
using GrandStair.Connections;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Outcomes;
using GrandStair.Core.Plans;
using GrandStair.Core.Readings;
using GrandStair.Core.Runs;
using GrandStair.Core.Scheduling;
using GrandStair.Core.Waves;
using GrandStair.Engine.Catalogue;
using GrandStair.Engine.Clocks;
using GrandStair.Engine.Fleet;
using GrandStair.Engine.Orders;
using GrandStair.Engine.Runs;
using GrandStair.Engine.Secrets;
using GrandStair.Files.Catalogue;
using GrandStair.Files.Plans;
using GrandStair.Storage.Databases;
using GrandStair.Storage.Fleet;
using GrandStair.Storage.Plans;
using GrandStair.Storage.Runs;
using GrandStair.Testing;
using Microsoft.Extensions.Logging;

namespace GrandStair.Benches;

/// <summary>
/// One worker with SQLite has ten thousand open runs of one plan: half of them in a step that lasts for hours, half on machines that do not
/// answer. Beside them five hundred slots of another plan begin in the same minute. No slot may begin more than ten seconds late.
/// </summary>
internal static class EngineBench
{
    internal const int Long = 5_000;
    internal const int Silent = 5_000;
    internal const int MostMemory = 1024;
    private const int Beside = 500;
    private static readonly TimeSpan MostLate = TimeSpan.FromSeconds(10);
    private static readonly TimeSpan FailsAfter = TimeSpan.FromSeconds(5);
    private static readonly TimeSpan Limit = TimeSpan.FromMinutes(8);

    internal static readonly (string Key, string Value)[] Readings =
    [
        ("os.product", "Brae Desktop"),
        ("os.edition", "Workplace"),
        ("os.version", "6"),
        ("os.build", "6.4.9"),
        ("hardware.memory", "16 GiB"),
        ("hardware.processor", "Ness 6"),
        ("disk.system.free", "90 GiB"),
        ("network.rate", "200 Mbit/s"),
        ("power.mains", "yes"),
        ("firmware.tpm.version", "2.0"),
        ("firmware.tpm.state", "on"),
        ("patches.pending", "0"),
        ("licence.active", "yes"),
        ("driver.printer", "4.2"),
        ("disk.encryption", "off"),
        ("services.failed", "0"),
        ("device.faults", "0"),
    ];

    public static async Task<bool> RunAsync()
    {
        using var stop = new CancellationTokenSource(Limit);
        var folder = Directory.CreateTempSubdirectory("grandstair-bench-").FullName;
        try
        {
            return await RunAsync(folder, stop.Token);
        }
        finally
        {
            Directory.Delete(folder, recursive: true);
        }
    }

    private static async Task<bool> RunAsync(string folder, CancellationToken stop)
    {
        await using var database = await Database.OpenAsync(Path.Combine(folder, "grandstair.db"), stop);
        var clock = new DomainClock(new ClockAnchor(DateTimeOffset.UtcNow, DateTimeOffset.UtcNow, 1), TimeProvider.System);
        var catalogues = await LoadCatalogueAsync(database, clock.GetUtcNow(), stop);
        var product = catalogues.Products["Brae Desktop"];
        var decisions = new DecisionTable(database);
        using var fleet = new FleetCache(new(database), decisions);
        await ImportAsync(database, catalogues, Long + Silent + Beside, BenchConnection.OnlyKind, clock.GetUtcNow(), stop);
        var machines = (await fleet.AllAsync(stop)).Values.OrderBy(m => m.Id.Value).ToArray();
        var (plans, runs) = (new PlanTable(database), new RunLog(database));
        using var logs = LoggerFactory.Create(l => l.AddSimpleConsole().SetMinimumLevel(LogLevel.Error));
        var connection = new BenchConnection();
        var connections = new ConnectionSet(new Dictionary<string, IConnection> { [connection.Kind] = connection });
        var reader = new MachineReader(connections, catalogues, new(database), new(database), fleet, clock);
        var scripts = new StepScripts(catalogues, new(database));
        var links = new NoOrderLinks();
        var worker = new RunWorker(
            runs,
            plans,
            new(catalogues, fleet, plans, new(database), clock),
            decisions,
            catalogues,
            fleet,
            reader,
            connections,
            new(connections, new(database), scripts),
            new(
                catalogues,
                plans,
                scripts,
                new(new(database), new(database), new(database), links),
                new(new(database, ""), links),
                new NoSecrets(),
                clock
            ),
            new(new(database), new NoSecrets(), clock),
            new(database),
            new(database),
            clock,
            logs.CreateLogger<RunWorker>()
        );

        await OpenAsync(plans, runs, product, "long", machines[..(Long + Silent)], clock.GetUtcNow().AddDays(1), clock.GetUtcNow(), stop);
        using var ended = CancellationTokenSource.CreateLinkedTokenSource(stop);
        var began = Stopwatch.GetTimestamp();
        var working = worker.WorkAsync(ended.Token);
        RunState? parked = null;
        await Eventually.TrueAsync(
            async () =>
            {
                parked ??= (await runs.FindAsync(1, stop))?.State is { Parked: not null } found ? found : null;
                return connection.Posted >= Long && connection.Failed >= Silent;
            },
            Limit / 2,
            () =>
                $"all are running or silent; {connection.Posted} posted, {connection.Failed} failed; r1 is "
                + $"{(parked is null ? "not parked" : $"parked: {parked.Parked}")}"
        );
        var opened = Stopwatch.GetElapsedTime(began);

        // The second plan's slots begin while the first one's machines are looked at.
        var start = clock.GetUtcNow().AddSeconds(60);
        await OpenAsync(plans, runs, product, "beside", machines[(Long + Silent)..], start, clock.GetUtcNow(), stop);
        var looksBefore = connection.Looks;
        IReadOnlyList<Member> beside = [];
        await Eventually.TrueAsync(
            async () => (beside = await plans.MembersAsync("beside", stop)).All(m => m.Verified is not null),
            Limit / 2,
            () =>
                $"all beside are verified; they are "
                + $"{string.Join(", ", beside.CountBy(m => m.Status).Select(s => $"{s.Key} {s.Value}"))}; "
                + $"{Phases(runs.ListAsync("beside", stop).Result)}; {connection.Looks - looksBefore} looks meanwhile"
        );
        var took = clock.GetUtcNow() - start;
        var late = new List<TimeSpan>();
        foreach (var run in await runs.ListAsync("beside", stop))
            late.Add(
                (await runs.EventsAsync(run.State.Run, stop)).Select(e => e.Event).OfType<SlotOpened>().Single().At - run.State.Slot.Start
            );
        var memory = Process.GetCurrentProcess().WorkingSet64 >> 20;
        await ended.CancelAsync();
        await working;

        var tooLate = late.Count(l => l > MostLate);
        Console.WriteLine("| | |\n|---|---|");
        Row("open runs: in a step for hours", Long);
        Row("open runs: without contact", Silent);
        Row("all of them looked at once after, s", opened.TotalSeconds);
        Row("slots beside them in one minute", late.Count);
        Row($"of these more than {MostLate.TotalSeconds:0} s late", tooLate);
        Row("the latest, s", late.Max().TotalSeconds);
        Row("all beside verified after, s", took.TotalSeconds);
        Row("looks at the others meanwhile", connection.Looks - looksBefore);
        Row("memory, MiB", memory);
        return tooLate == 0 && memory < MostMemory;
    }

    internal static void Row(string what, double value) =>
        Console.WriteLine(string.Create(CultureInfo.InvariantCulture, $"| {what} | {value:#,0.#} |"));

    internal static async Task<CatalogueCache> LoadCatalogueAsync(Database database, DateTimeOffset now, CancellationToken stop)
    {
        var catalogues = new CatalogueCache(new Documents(), new(database));
        var files = CatalogueFolder.Load(Path.Combine(Repository.Root, "catalogue", "brae-desktop"));
        await catalogues.LoadAsync([new(CatalogueFolder.Hash(files), "Brae Desktop", files)], now, stop);
        return catalogues;
    }

    internal static async Task ImportAsync(
        Database database,
        CatalogueCache catalogues,
        int count,
        string connection,
        DateTimeOffset now,
        CancellationToken stop
    )
    {
        ImmutableArray<Reading> readings =
        [
            .. Readings
                .Append(("backup.last", now.ToString("yyyy-MM-ddTHH:mm:ssZ", CultureInfo.InvariantCulture)))
                .Select(r => Reading.Of(r.Item1, catalogues.Keys.Find(r.Item1)!.Parse(r.Item2, out _)!, now, now, "inventory")),
        ];
        var reported = Enumerable
            .Range(1, count)
            .Select(i => new ReportedMachine(
                i + 1,
                $"desk-{i:00000}",
                [],
                $"Site {i % 400}",
                "",
                "",
                [],
                new(connection, "", 22, "root", null),
                new("inventory", [], readings),
                now
            ))
            .ToArray();
        foreach (var batch in reported.Chunk(1000))
            await new FleetTable(database).ImportAsync(batch, "inventory", new("bench"), now, stop);
    }

    internal static async Task OpenAsync(
        PlanTable plans,
        RunLog runs,
        Product product,
        string name,
        IReadOnlyList<Machine> machines,
        DateTimeOffset start,
        DateTimeOffset now,
        CancellationToken stop
    )
    {
        var method = product.Method("image-in-place")!;
        var slot = new Slot(start, start.AddHours(2), start.AddHours(4));
        var body = $$"""
            plan: {{name}}
            target: { product: Brae Desktop, release: "7" }
            scope: os.product = "Brae Desktop"
            methods: [image-in-place]
            waves: [{ name: All }]
            windows: [{ zone: Europe/London, weekly: ["Mon-Sun 00:00-00:00"] }]
            limits: { all: 20000, site: 20000 }
            advance: { verified: 100 %, failures: 0, soak: 1 d }
            """;
        await plans.CreateAsync(
            new(
                name,
                1,
                body,
                product.Hash,
                PlanStatus.Started,
                null,
                now,
                "bench",
                now,
                null,
                [],
                [new(1, "All", WaveState.Open, now, null)]
            ),
            [
                .. machines.Select(m => new Member
                {
                    Plan = name,
                    Machine = m.Id,
                    Wave = 1,
                    Status = Status.Scheduled,
                    Slot = slot,
                }),
            ],
            new("bench"),
            stop
        );
        LegSpec leg = new(
            "6-to-7",
            method.Name,
            method.Steps,
            method.Rollback.Steps,
            method.Rollback.Lasts,
            method.Typical.AfterPointOfNoReturn
        )
        {
            To = "7",
        };
        await Parallel.ForEachAsync(
            machines,
            new ParallelOptions { MaxDegreeOfParallelism = 64, CancellationToken = stop },
            async (machine, one) =>
                await runs.OpenAsync(
                    name,
                    machine.Id,
                    run => new RunOpened(now, "worker", run, machine.Id.Value, name, 1, "All", product.Hash, [leg], slot),
                    one
                )
        );
    }

    /// <summary>The first machines run a step for hours, the next do not answer, and the last do at once what they are asked.</summary>
    private sealed class BenchConnection : IConnection
    {
        public const string OnlyKind = "bench";
        private long _posted;
        private long _failed;
        private long _looks;

        public string Kind => OnlyKind;

        public long Posted => Interlocked.Read(ref _posted);

        public long Failed => Interlocked.Read(ref _failed);

        public long Looks => Interlocked.Read(ref _looks);

        public Task<IReadOnlyList<ScriptOutput>> ReadAsync(
            Machine machine,
            IReadOnlyList<string> scripts,
            IReadOnlyCollection<string> wanted,
            CancellationToken stop
        )
        {
            var lines = string.Join(
                '\n',
                Readings
                    .Select(r => $"{r.Key} = {(r.Key == "os.version" ? "7" : r.Value)}")
                    .Append($"backup.last = {DateTime.UtcNow:yyyy-MM-ddTHH:mm:ssZ}")
            );
            return Task.FromResult<IReadOnlyList<ScriptOutput>>([new(lines), .. scripts.Skip(1).Select(_ => new ScriptOutput(""))]);
        }

        public async Task PostAsync(Machine machine, PostedOrder order, CancellationToken stop)
        {
            await ReachAsync(machine, stop);
            Interlocked.Increment(ref _posted);
        }

        public async Task<OrderStatus> AskAsync(Machine machine, OrderName order, CancellationToken stop)
        {
            await ReachAsync(machine, stop);
            Interlocked.Increment(ref _looks);
            return machine.Id.Value <= Long ? new(OrderState.Running, null, 0.1, "copying") : new(OrderState.Ended, 0, 1, "done");
        }

        public Task<byte[]> OutputAsync(Machine machine, OrderName order, long from, CancellationToken stop) => Task.FromResult<byte[]>([]);

        private async Task ReachAsync(Machine machine, CancellationToken stop)
        {
            if (machine.Id.Value is <= Long or > Long + Silent)
                return;
            // As a connection that nobody answers.
            Interlocked.Increment(ref _failed);
            Interlocked.Increment(ref _looks);
            await Task.Delay(FailsAfter, stop);
            throw new ConnectionException("unreachable", $"{machine.Name} does not answer.");
        }
    }

    private sealed class NoOrderLinks : IOrderLinks
    {
        public bool IsReachable => false;

        public OrderLink? LinkFor(OrderName order, string path) => null;
    }

    private sealed class NoSecrets : ISecrets
    {
        public Task<string> OfAsync(string name, CancellationToken stop) =>
            throw new ConnectionException("secret", $"There is no secret '{name}'.");
    }

    private sealed class Documents : IDocuments
    {
        public Product ReadProduct(CatalogueContent content) => CatalogueFolder.Parse(content.Files, KeyRegistry.BuiltIn);

        public Plan ReadPlan(string body, KeyRegistry keys, Func<string, Product?> product) =>
            PlanFile.Parse(body, keys, product, "plan.yaml");

        public string ChangePlan(string body, IReadOnlyList<string> changes) =>
            throw new NotSupportedException("No plan is changed in this bench.");

        public ICalendar ReadCalendar(string body, string name, out int events) =>
            throw new NotSupportedException("No plan of this bench has calendars.");
    }

    private static string Phases(IEnumerable<StoredRun> runs) =>
        string.Join("; ", runs.CountBy(r => $"{r.State.Phase} {r.State.Parked}").Select(p => $"{p.Key}: {p.Value}"));
}
