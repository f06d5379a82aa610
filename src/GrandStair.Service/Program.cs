using GrandStair.Core.Readings;
using GrandStair.Engine.Checks;
using GrandStair.Engine.Clocks;
using GrandStair.Engine.Exposure;
using GrandStair.Engine.Fleet;
using GrandStair.Engine.Plans;
using GrandStair.Engine.Runs;
using GrandStair.Files;
using GrandStair.Files.Catalogue;
using GrandStair.Links;
using GrandStair.Links.Ssh;
using GrandStair.Links.StandIns;
using GrandStair.Service;
using GrandStair.Service.Access;
using GrandStair.Service.Catalogue;
using GrandStair.Service.Checks;
using GrandStair.Service.Demo;
using GrandStair.Service.Events;
using GrandStair.Service.Exposure;
using GrandStair.Service.Fleet;
using GrandStair.Service.Overview;
using GrandStair.Service.Plans;
using GrandStair.Service.Problems;
using GrandStair.Service.Readiness;
using GrandStair.Service.Runs;
using GrandStair.Service.Session;
using GrandStair.Service.Sources;
using GrandStair.Storage.Access;
using GrandStair.Storage.Checks;
using GrandStair.Storage.Databases;
using GrandStair.Storage.Feeds;
using GrandStair.Storage.Fleet;
using GrandStair.Storage.Plans;
using GrandStair.Storage.Runs;
using Microsoft.AspNetCore.Authentication;

try
{
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
    var builder = WebApplication.CreateBuilder(new WebApplicationOptions { Args = args, ContentRootPath = AppContext.BaseDirectory });
    builder.Logging.SetMinimumLevel(LogLevel.Information).AddFilter("Microsoft", LogLevel.Warning).AddFilter("FluentMigrator", LogLevel.Warning);
    builder.Logging.AddSimpleConsole(c =>
    {
        c.SingleLine = true;
        c.TimestampFormat = "HH:mm:ss ";
        c.UseUtcTimestamp = true;
    });
    var options = ServiceOptions.From(builder.Configuration);
    Directory.CreateDirectory(options.Data);
    builder.WebHost.UseUrls($"http://127.0.0.1:{options.Port}");
    builder.WebHost.ConfigureKestrel(k => k.AddServerHeader = false);

    using var only = options.Database is null ? ServiceLock.Take(options.Data) : null;
    await using var database = await Database.OpenAsync(options.Database ?? Path.Combine(options.Data, "grandstair.db"), default);
    // An embedded service is the only one: whatever held runs before it is gone.
    if (only is not null) await new RunLog(database).EndWorkersAsync(null, default);
    var clock = await StartClock.OpenAsync(new ClockTable(database), options, default);
    AddServices(builder.Services, options, database, clock);
    var world = new StandInWorld(Path.Combine(options.Data, "stand-ins.db"));
    if (options.StandIns is { } standIns) world.Add(StandInFile.Read(standIns));
    builder.Services.AddSingleton(world).AddSingleton(await LinksAsync(options, database, world, clock));

    var app = builder.Build();
    await LoadCatalogueAsync(app.Services.GetRequiredService<Shelf>(), options, clock.GetUtcNow());
    await app.Services.GetRequiredService<SourceDesk>().LoadAsync(default);
    await FirstToken.MakeAsync(app.Services.GetRequiredService<AccessTable>(), options, default);
    if (options.Demo is not null) await NorthmereStart.PrepareAsync(app.Services, options, default);
    Map(app, options);
    await app.StartAsync();
    // Where a port of 0 was asked for, only now it is known; the client finds the service by this file.
    var address = app.Urls.First();
    await File.WriteAllTextAsync(Path.Combine(options.Data, "service.url"), address + "\n");
    await Console.Out.WriteLineAsync($"Listening: {address}");
    await app.WaitForShutdownAsync();
}

static void AddServices(IServiceCollection services, ServiceOptions options, Database database, DomainClock clock)
{
    services.AddSingleton(options).AddSingleton(database).AddSingleton(clock).AddSingleton<TimeProvider>(clock)
        .AddSingleton<FleetTable>().AddSingleton<PlanTable>().AddSingleton<RulingTable>().AddSingleton<FixTable>().AddSingleton<TallyTable>().AddSingleton<SourceTable>().AddSingleton<ImportTable>().AddSingleton<ImportsUnderWay>().AddSingleton<CatalogueTable>().AddSingleton<RunLog>().AddSingleton<Feed>().AddSingleton<AccessTable>().AddSingleton<ClockTable>()
        .AddSingleton<IDocuments, Documents>().AddSingleton<Shelf>().AddSingleton<FleetCache>().AddSingleton<MachineReader>().AddSingleton<PlanDesk>().AddSingleton<CheckDesk>().AddSingleton<ExposureDesk>().AddSingleton(new ReadingSchedule(options.ReadEvery)).AddSingleton<ScheduledReading>().AddSingleton<PlanKeeper>().AddSingleton<RunWorker>()
        .AddSingleton<LiveFeed>().AddHostedService(s => s.GetRequiredService<LiveFeed>()).AddHostedService<EngineHost>()
        .AddSingleton<SourceDesk>().AddHostedService(s => s.GetRequiredService<SourceDesk>());
    if (options.Demo is not null) services.AddHostedService<NorthmerePeople>();
    services.AddAuthentication(CallerHandler.Name).AddScheme<AuthenticationSchemeOptions, CallerHandler>(CallerHandler.Name, null);
    services.AddAuthorization().AddProblemDetails().AddExceptionHandler<ProblemResults>();
    services.AddOpenApi("v1", o => o.AddDocumentTransformer((document, _, _) =>
    {
        document.Info = new() { Title = "Grand Stair", Version = "v1", Description = "Every call needs a token: Authorization: Bearer TOKEN. Errors are problems as of RFC 9457." };
        document.Servers?.Clear();
        return Task.CompletedTask;
    }));
    services.ConfigureHttpJsonOptions(j => j.SerializerOptions.NumberHandling = System.Text.Json.Serialization.JsonNumberHandling.Strict);
}

static async Task<LinkSet> LinksAsync(ServiceOptions options, Database database, StandInWorld world, DomainClock clock)
{
    var installation = await new SettingsTable(database).FirstAsync("installation", Guid.NewGuid().ToString("N")[..12], default);
    ILink[] links = [new SshLink(new(options.SshKey, installation, options.PostQuantum)), new StandInLink(world, clock)];
    return new(links.ToDictionary(l => l.Kind));
}

static async Task LoadCatalogueAsync(Shelf shelf, ServiceOptions options, DateTimeOffset now)
{
    if (!Directory.Exists(options.Catalogue)) throw new IOException($"There is no catalogue folder at {options.Catalogue}. Say where it is with --catalogue FOLDER.");
    var contents = Directory.EnumerateDirectories(options.Catalogue).Order(StringComparer.Ordinal).Select(folder =>
    {
        var files = CatalogueFolder.Load(folder);
        var product = CatalogueFolder.Parse(files, KeyRegistry.BuiltIn, Path.Combine(folder, "product.yaml"));
        return new CatalogueContent(product.Hash, product.Name, files);
    });
    await shelf.LoadAsync([.. contents], now, default);
}

static void Map(WebApplication app, ServiceOptions options)
{
    app.UseExceptionHandler();
    app.UseAccessRules(options);
    if (!File.Exists(Path.Combine(app.Environment.WebRootPath ?? "", "index.html")))
        app.Logger.LogWarning("There is no console at {Folder}; build it with 'build/ensure console', or say where it is with --webroot FOLDER", app.Environment.WebRootPath);
    app.UseDefaultFiles();
    app.UseStaticFiles();
    app.UseAuthentication();
    app.UseAuthorization();

    app.MapGet("/health/live", () => Results.Ok("live")).ExcludeFromDescription();
    app.MapGet("/health/ready", async (Feed feed, CancellationToken stop) => Results.Ok(await feed.NewestAsync(stop))).ExcludeFromDescription();
    var api = app.MapGroup("/api/v1").RequireAuthorization().ProducesProblem(401);
    app.MapSession(api);
    api.MapFleet();
    api.MapImports();
    api.MapCatalogue();
    api.MapReadiness();
    api.MapChecks();
    api.MapExposure();
    api.MapSources();
    api.MapPlans();
    api.MapRuns();
    api.MapOverview();
    api.MapEvents();
    api.MapOpenApi("/openapi.json");
    api.MapFallback("/{**rest}", (string? rest) => Results.Problem(ProblemResults.Of(404, "no-such-call", $"There is no call '/api/v1/{rest}'. The calls are listed at /api/v1/openapi.json.")));
    app.MapFallbackToFile("index.html");
}

/// <summary>The service's program, for tests that name it.</summary>
public partial class Program;
