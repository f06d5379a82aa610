using GrandStair.Connections;
using GrandStair.Connections.Simulation;
using GrandStair.Connections.Ssh;
using GrandStair.Core.Readings;
using GrandStair.Engine.Catalogue;
using GrandStair.Engine.Checks;
using GrandStair.Engine.Clocks;
using GrandStair.Engine.Durations;
using GrandStair.Engine.Duties;
using GrandStair.Engine.Exposure;
using GrandStair.Engine.Fleet;
using GrandStair.Engine.Media;
using GrandStair.Engine.Orders;
using GrandStair.Engine.Plans;
using GrandStair.Engine.Rehearsals;
using GrandStair.Engine.Runs;
using GrandStair.Engine.Secrets;
using GrandStair.Engine.SupportCases;
using GrandStair.Files;
using GrandStair.Files.Catalogue;
using GrandStair.Files.Providers;
using GrandStair.Service;
using GrandStair.Service.Access;
using GrandStair.Service.Accounts;
using GrandStair.Service.Audit;
using GrandStair.Service.Calendars;
using GrandStair.Service.Catalogue;
using GrandStair.Service.Checks;
using GrandStair.Service.Demo;
using GrandStair.Service.Events;
using GrandStair.Service.Exposure;
using GrandStair.Service.Fleet;
using GrandStair.Service.Health;
using GrandStair.Service.HostKeys;
using GrandStair.Service.Media;
using GrandStair.Service.Orders;
using GrandStair.Service.Overview;
using GrandStair.Service.Plans;
using GrandStair.Service.Problems;
using GrandStair.Service.Providers;
using GrandStair.Service.Readiness;
using GrandStair.Service.Rehearsals;
using GrandStair.Service.Runs;
using GrandStair.Service.Scripts;
using GrandStair.Service.Secrets;
using GrandStair.Service.Session;
using GrandStair.Service.Settings;
using GrandStair.Service.ShareLinks;
using GrandStair.Service.Sources;
using GrandStair.Service.SupportCases;
using GrandStair.Service.Tokens;
using GrandStair.Storage.Access;
using GrandStair.Storage.Audit;
using GrandStair.Storage.Calendars;
using GrandStair.Storage.Checks;
using GrandStair.Storage.Databases;
using GrandStair.Storage.Feeds;
using GrandStair.Storage.Fleet;
using GrandStair.Storage.Media;
using GrandStair.Storage.Plans;
using GrandStair.Storage.Rehearsals;
using GrandStair.Storage.Runs;
using GrandStair.Storage.Scripts;
using GrandStair.Storage.Secrets;
using GrandStair.Storage.SupportCases;
using Microsoft.AspNetCore.Authentication;
using Microsoft.AspNetCore.DataProtection;
using Microsoft.AspNetCore.HttpOverrides;
using Microsoft.AspNetCore.Server.Kestrel.Https;
using Microsoft.Extensions.Logging.Console;

if (args.Any(a => a is "--help" or "-h"))
{
    await Console.Out.WriteLineAsync(ServiceHelp.Text);
    return 0;
}

try
{
    ServiceHelp.Check(args);
    await RunAsync(args);
    return 0;
}
catch (Exception error) when (error is FormatException or StoreException or FileException or IOException or UnauthorizedAccessException)
{
    await Console.Error.WriteLineAsync($"grandstair cannot start: {error.Message}");
    return 1;
}

static async Task RunAsync(string[] args)
{
    var builder = WebApplication.CreateBuilder(
        new WebApplicationOptions
        {
            Args = args,
            ContentRootPath = AppContext.BaseDirectory,
            WebRootPath = ServiceOptions.Shipped("wwwroot"),
        }
    );
    builder
        .Logging.SetMinimumLevel(LogLevel.Information)
        .AddFilter("Microsoft", LogLevel.Warning)
        .AddFilter("FluentMigrator", LogLevel.Warning);
    builder.Logging.AddConsole(c => c.FormatterName = LogLine.Name).AddConsoleFormatter<LogLine, ConsoleFormatterOptions>();
    var options = ServiceOptions.From(builder.Configuration);
    DataFolder.Prepare(options.Data);
    ConfigureServer(builder.WebHost, options);

    using var only = options.Database is null ? ServiceLock.Take(options.Data) : null;
    await using var database = await Database.OpenAsync(options.Database ?? Path.Combine(options.Data, "grandstair.db"), default);
    // An embedded service is the only one: whatever held runs before it is gone.
    if (only is not null)
        await new RunLog(database).EndWorkersAsync(null, default);
    var clock = await StartClock.OpenAsync(new ClockTable(database), options, default);
    AddServices(builder.Services, options, database, clock);
    var installation = await new SettingsTable(database).FirstAsync("installation", Guid.NewGuid().ToString("N")[..12], default);
    using var world = new SimulatedMachines(Path.Combine(options.Data, "simulated.db"));
    if (options.SimulatedMachines is { } simulated)
        world.Add(SimulatedMachineFile.Read(simulated));
    builder
        .Services.AddSingleton(world)
        .AddSingleton(await AuditKey.OpenAsync(options.Data, default))
        .AddSingleton(s => Connections(new(s.GetRequiredService<SshAccess>(), installation, options.PostQuantum), world, clock));

    var app = builder.Build();
    await LoadCatalogueAsync(app.Services.GetRequiredService<CatalogueCache>(), options, clock.GetUtcNow());
    await app.Services.GetRequiredService<SourceReader>().LoadAsync(default);
    if (options.AcceptAudit is { } accepted)
        await app.Services.GetRequiredService<AuditSealer>().AcceptAsync(accepted, clock.GetUtcNow(), default);
    await FirstToken.MakeAsync(
        app.Services.GetRequiredService<AccountTable>(),
        app.Services.GetRequiredService<AccessTable>(),
        options,
        clock.GetUtcNow(),
        default
    );
    if (options.Demo is not null)
        await NorthmereStart.PrepareAsync(app.Services, options, default);
    Map(app, options);
    await app.StartAsync();
    // Where a port of 0 was asked for, only now it is known; the client finds the service by this file.
    var address = app
        .Urls.First()
        .Replace("0.0.0.0", "127.0.0.1", StringComparison.Ordinal)
        .Replace("[::]", "[::1]", StringComparison.Ordinal);
    await File.WriteAllTextAsync(Path.Combine(options.Data, "service.url"), address + "\n");
    await Console.Out.WriteLineAsync($"Listening: {address}");
    await app.WaitForShutdownAsync();
}

static void ConfigureServer(IWebHostBuilder host, ServiceOptions options) =>
    host.ConfigureKestrel(k =>
    {
        k.AddServerHeader = false;
        k.Limits.MaxRequestBodySize = CallLimits.LargestBody;
        k.Limits.RequestHeadersTimeout = TimeSpan.FromSeconds(15);
        var log = k.ApplicationServices.GetRequiredService<ILoggerFactory>().CreateLogger("GrandStair.Service.Tls");
        var tls = options.TlsCertificate is { } file ? new TlsCertificate(file, options.TlsKey!, log) : null;
        // What cannot be used is reported at the start, not at the first call.
        _ = tls?.Current;
        if (options.IsPlainAbroad)
            log.LogWarning(
                "PLAIN HTTP on {Address}: tokens and passwords go over the network as they are. This was asked for by --plain-http yes",
                options.Listen
            );
        k.Listen(options.Listen, options.Port, listener =>
        {
            if (tls is not null)
                listener.UseHttps(
                    new TlsHandshakeCallbackOptions
                    {
                        OnConnection = _ =>
                            ValueTask.FromResult(
                                new System.Net.Security.SslServerAuthenticationOptions { ServerCertificateContext = tls.Current }
                            ),
                    }
                );
        });
    });

static void AddServices(IServiceCollection services, ServiceOptions options, Database database, DomainClock clock)
{
    services
        .AddSingleton(options)
        .AddSingleton(database)
        .AddSingleton(clock)
        .AddSingleton<TimeProvider>(clock)
        .AddSingleton<FleetTable>()
        .AddSingleton<PlanTable>()
        .AddSingleton<DecisionTable>()
        .AddSingleton<FixTable>()
        .AddSingleton<SupportCaseTable>()
        .AddSingleton<TallyTable>()
        .AddSingleton<SourceTable>()
        .AddSingleton<ImportTable>()
        .AddSingleton<RemovalTable>()
        .AddSingleton<RunEvidence>()
        .AddSingleton<ImportsRunning>()
        .AddSingleton<CatalogueTable>()
        .AddSingleton<RunLog>()
        .AddSingleton<RunIndex>()
        .AddSingleton<Feed>()
        .AddSingleton<AccessTable>()
        .AddSingleton<AccountTable>()
        .AddSingleton<AuditTable>()
        .AddSingleton<SecretTable>()
        .AddSingleton<FirstUseTable>()
        .AddSingleton<ScriptTable>()
        .AddSingleton<RunRecordTable>()
        .AddSingleton<RunOutputTable>()
        .AddSingleton<RunTexts>()
        .AddSingleton<StepScripts>()
        .AddSingleton<RecordSteps>()
        .AddSingleton<MediaTable>()
        .AddSingleton(new MediaFolder(options.Media))
        .AddSingleton<SiteRepositoryTable>()
        .AddSingleton<StagedMediaTable>()
        .AddSingleton<MediaHostTable>()
        .AddSingleton<MediaStore>()
        .AddSingleton<MediaDownloads>()
        .AddSingleton<MediaSteps>()
        .AddSingleton(new SavedFiles(database, Path.Combine(options.Media, "saved")))
        .AddSingleton<SavedFileStore>()
        .AddSingleton<SavedFileSteps>()
        .AddSingleton<StepOrders>()
        .AddSingleton<StepOutputs>()
        .AddSingleton<OrderLinks>()
        .AddSingleton<IOrderLinks>(s => s.GetRequiredService<OrderLinks>())
        .AddSingleton<SecretStore>()
        .AddSingleton<ISecrets>(s => s.GetRequiredService<SecretStore>())
        .AddSingleton<SshAccess>()
        .AddSingleton<ClockTable>()
        .AddSingleton<IDocuments, Documents>()
        .AddSingleton<CatalogueCache>()
        .AddSingleton<FleetCache>()
        .AddSingleton<MachineReader>()
        .AddSingleton<CalendarTable>()
        .AddSingleton<CalendarCache>()
        .AddSingleton<ApprovalTable>()
        .AddSingleton<PlanApprovals>()
        .AddSingleton<PlanAcknowledgements>()
        .AddSingleton<OtherPlans>()
        .AddSingleton<PlanFactsReader>()
        .AddSingleton<PlanWriter>()
        .AddSingleton<PlanCommands>()
        .AddSingleton<NextWindow>()
        .AddSingleton<RunCommands>()
        .AddSingleton<SlotCommands>()
        .AddSingleton<ShareLinkTable>()
        .AddSingleton<SharedSlots>()
        .AddSingleton<SharedReports>()
        .AddSingleton<RehearsalTable>()
        .AddSingleton<MeasuredRuns>()
        .AddSingleton<RehearsalCases>()
        .AddSingleton<RehearsalRunner>()
        .AddSingleton<CheckRunner>()
        .AddSingleton<SupportCaseCommands>()
        .AddSingleton<ExposureReport>()
        .AddSingleton(new ReadingSchedule(options.ReadEvery))
        .AddSingleton<ScheduledReading>()
        .AddSingleton<PlanTroubles>()
        .AddSingleton<ChangeSignal>()
        .AddSingleton<MachineRefresh>()
        .AddSingleton<PlanKeeper>()
        .AddSingleton<RunWorker>()
        .AddSingleton<DutyHost>()
        .AddSingleton<DutyLeaseTable>()
        .AddSingleton<SingleDuty>()
        .AddSingleton<LiveFeed>()
        .AddSingleton<ForecastAges>()
        .AddHostedService(s => s.GetRequiredService<LiveFeed>())
        .AddHostedService<EngineHost>()
        .AddSingleton<SourceReader>()
        .AddHostedService(s => s.GetRequiredService<SourceReader>());
    if (options.Demo is not null)
        services.AddHostedService<NorthmerePeople>();
    if (clock.Stepped is not null)
        services.AddHostedService<TimeStepper>();
    services
        .AddHttpContextAccessor()
        .AddScoped<ScopedFleet>()
        .AddScoped<ScopedPlans>()
        .AddSingleton<UsualLengths>()
        .AddSingleton<RunRows>()
        .AddScoped<MediaRows>()
        .AddScoped<ScopedRuns>()
        .AddScoped<ScopedSupportCases>()
        .AddScoped<Targets>()
        .AddSingleton<Sessions>()
        .AddSingleton<Callers>()
        .AddSingleton<Passwords>()
        .AddSingleton<AuditAlarm>()
        .AddSingleton<AuditAnchors>()
        .AddHostedService(s => s.GetRequiredService<AuditAnchors>())
        .AddSingleton<AuditSealer>()
        .AddHostedService(s => s.GetRequiredService<AuditSealer>());
    services
        .AddDataProtection()
        .SetApplicationName("grandstair")
        .PersistKeysToFileSystem(
            Directory.CreateDirectory(options.Keys, UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute)
        );
    var authentication = services
        .AddAuthentication(CallerHandler.Name)
        .AddScheme<AuthenticationSchemeOptions, CallerHandler>(CallerHandler.Name, null);
    var provider = options.Provider is { } file ? ProviderFile.Parse(File.ReadAllText(file), file) : null;
    if (provider is not null)
        authentication.AddProvider(provider);
    services.AddSingleton(s => new ProviderAccounts(
        provider,
        s.GetRequiredService<AccountTable>(),
        clock,
        s.GetRequiredService<ILogger<ProviderAccounts>>()
    ));
    services.AddCallLimits(options);
    // Scheme and address of the caller are taken from named proxies only.
    services.Configure<ForwardedHeadersOptions>(f =>
    {
        f.ForwardedHeaders = ForwardedHeaders.XForwardedFor | ForwardedHeaders.XForwardedProto;
        f.KnownProxies.Clear();
        f.KnownIPNetworks.Clear();
        foreach (var proxy in options.Proxies)
            f.KnownProxies.Add(proxy);
    });
    services.AddAuthorization().AddProblemDetails().AddExceptionHandler<ProblemResults>();
    services.AddOpenApi("v1", o => o.AddDocumentTransformer(
                (document, _, _) =>
                {
                    document.Info = new()
                    {
                        Title = "Grand Stair",
                        Version = "v1",
                        Description = "Every call needs a token: Authorization: Bearer TOKEN. Errors are problems as of RFC 9457.",
                    };
                    document.Servers?.Clear();
                    return Task.CompletedTask;
                }
            )
            .AddOperationTransformer(CallRights.DescribeAsync));
    services.Configure<RouteHandlerOptions>(o => o.ThrowOnBadRequest = true);
    services.ConfigureHttpJsonOptions(j =>
    {
        j.SerializerOptions.NumberHandling = System.Text.Json.Serialization.JsonNumberHandling.Strict;
        j.SerializerOptions.MaxDepth = 16;
        j.SerializerOptions.RespectNullableAnnotations = true;
        j.SerializerOptions.RespectRequiredConstructorParameters = true;
    });
}

static ConnectionSet Connections(SshOptions ssh, SimulatedMachines world, DomainClock clock)
{
    IConnection[] connections = [new SshConnection(ssh), new SimulatedConnection(world, clock)];
    return new(connections.ToDictionary(l => l.Kind));
}

static async Task LoadCatalogueAsync(CatalogueCache catalogues, ServiceOptions options, DateTimeOffset now)
{
    if (!Directory.Exists(options.Catalogue))
        throw new IOException($"There is no catalogue folder at {options.Catalogue}. Say where it is with --catalogue FOLDER.");
    var contents = Directory
        .EnumerateDirectories(options.Catalogue)
        .Order(StringComparer.Ordinal)
        .Select(folder =>
        {
            var files = CatalogueFolder.Load(folder);
            var product = CatalogueFolder.Parse(files, KeyRegistry.BuiltIn, Path.Combine(folder, "product.yaml"));
            return new CatalogueContent(product.Hash, product.Name, files);
        });
    await catalogues.LoadAsync([.. contents], now, default);
}

static void Map(WebApplication app, ServiceOptions options)
{
    app.UseExceptionHandler();
    if (options.Proxies.Count > 0)
        app.UseForwardedHeaders();
    app.UseAccessRules(options);
    if (!File.Exists(Path.Combine(app.Environment.WebRootPath ?? "", "index.html")))
        app.Logger.LogWarning(
            "There is no console at {Folder}; build it with 'build/ensure console', or say where it is with --webroot FOLDER",
            app.Environment.WebRootPath
        );
    app.UseDefaultFiles();
    app.UseStaticFiles();
    app.UseAuthentication();
    // Before anybody is turned away, so that turning away is bounded too.
    app.UseRateLimiter();
    app.UseAuthorization();
    app.UseRequestTimeouts();
    app.UseCallRights();

    app.MapHealth();
    var api = app.MapGroup("/api/v1").RequireAuthorization().ProducesProblem(400).ProducesProblem(401).ProducesProblem(403);
    api.NeedRights();
    if (options.Provider is not null)
        app.MapProvider();
    api.MapSignIn();
    app.MapSession(api);
    api.MapFleet();
    api.MapImports();
    api.MapCatalogue();
    api.MapReadiness();
    api.MapChecks();
    api.MapExposure();
    api.MapSources();
    api.MapPlans();
    api.MapDuties();
    api.MapSchedules();
    api.MapTimes();
    api.MapShareLinks();
    api.MapRehearsals();
    api.MapCalendars();
    api.MapMedia();
    api.MapSettings();
    api.MapRuns();
    api.MapSavedFiles();
    api.MapOutputs();
    api.MapFollowUps();
    api.MapSupportCases();
    api.MapOverview();
    api.MapAccounts();
    api.MapTokens();
    api.MapAudit();
    api.MapSecrets();
    api.MapHostKeys();
    api.MapScripts();
    api.MapEvents();
    api.MapOpenApi("/openapi.json").WithName("DescribeInterface");
    api.MapFallback("/{**rest}", (string? rest, HttpRequest request) =>
        Results.Problem(
            ProblemResults.Of(
                404,
                "no-such-call",
                $"There is no call '{request.Method} /api/v1/{rest}'{(request.ContentType is { } type ? $" that takes {type}" : "")}. "
                    + $"The calls are listed at /api/v1/openapi.json."
            )
        )
    );
    app.MapOrderFiles();
    app.MapFallbackToFile("index.html");
}

/// <summary>The service's program, for tests that name it.</summary>
public partial class Program;
