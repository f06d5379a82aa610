using System.Globalization;
using System.Net;
using System.Net.Http.Json;
using System.Net.ServerSentEvents;
using System.Runtime.CompilerServices;
using System.Text.Json;
using GrandStair.Contracts;

namespace GrandStair.Client;

/// <summary>What the service answered in place of what was asked for.</summary>
/// <param name="status">The HTTP status; 0 where the service did not answer.</param>
/// <param name="name">The problem's stable name, such as <c>unknown-machine</c>.</param>
/// <param name="message">What happened, and what to do.</param>
public sealed class ServiceException(int status, string name, string message, Exception? inner = null) : Exception(message, inner)
{
    /// <summary>The HTTP status; 0 where the service did not answer.</summary>
    public int Status { get; } = status;

    /// <summary>The problem's stable name.</summary>
    public string Name { get; } = name;

    /// <summary>What is wrong in a file that was sent, by line.</summary>
    public IReadOnlyList<string> Problems { get; init; } = [];
}

/// <summary>How a fleet file is to be understood; null leaves it to the service.</summary>
/// <param name="Source">The name of the source that its readings come from.</param>
/// <param name="Seen">When its readings were seen.</param>
/// <param name="Format"><c>csv</c> or <c>jsonl</c>.</param>
/// <param name="Encoding"><c>utf-8</c> or <c>windows-1252</c>.</param>
/// <param name="Mapping">The content of a mapping file.</param>
/// <param name="MappingName">The mapping file's name, for errors.</param>
public sealed record ImportOptions(
    string? Source = null,
    string? Seen = null,
    string? Format = null,
    string? Encoding = null,
    string? Mapping = null,
    string? MappingName = null
);

/// <summary>Calls a Grand Stair service.</summary>
public sealed partial class GrandStairClient : IDisposable
{
    private static readonly JsonSerializerOptions Json = new(JsonSerializerDefaults.Web);
    private static readonly TimeSpan MostForAnswer = TimeSpan.FromMinutes(5);
    private static readonly TimeSpan MostForImport = TimeSpan.FromHours(1);
    private static readonly TimeSpan ProgressEvery = TimeSpan.FromSeconds(1);
    private readonly HttpClient _http;

    /// <summary>Calls the service at an address with a token; an empty one is for calls that need none.</summary>
    public GrandStairClient(Uri service, string token)
    {
        Service = service;
        _http = new() { BaseAddress = new(service, "/api/v1/"), Timeout = Timeout.InfiniteTimeSpan };
        if (token.Length > 0)
            _http.DefaultRequestHeaders.Authorization = new("Bearer", token);
    }

    /// <summary>Where the service is.</summary>
    public Uri Service { get; }

    /// <summary>Who calls, and the service's clock.</summary>
    public Task<SessionView> SessionAsync(CancellationToken stop) => GetAsync<SessionView>("session", stop);

    /// <summary>All reading keys.</summary>
    public Task<IReadOnlyList<KeyView>> KeysAsync(CancellationToken stop) => GetAsync<IReadOnlyList<KeyView>>("keys", stop);

    /// <summary>The possible continuations of a condition that is being written.</summary>
    public Task<CompletionView> CompleteAsync(string text, CancellationToken stop) =>
        GetAsync<CompletionView>(Query("conditions/completion", ("text", text)), stop);

    /// <summary>The sources, with how each was last read.</summary>
    public Task<IReadOnlyList<SourceView>> SourcesAsync(CancellationToken stop) => GetAsync<IReadOnlyList<SourceView>>("sources", stop);

    /// <summary>Reads a source now.</summary>
    public Task<SourceView> ReadSourceAsync(string name, CancellationToken stop) =>
        SendAsync<SourceView>(HttpMethod.Post, $"sources/{Escape(name)}/read", null, stop);

    /// <summary>The products of the catalogue.</summary>
    public Task<IReadOnlyList<ProductView>> CatalogueAsync(CancellationToken stop) =>
        GetAsync<IReadOnlyList<ProductView>>("catalogue", stop);

    /// <summary>Imports a fleet file. One that was cut short goes on where it stopped when it is imported again.</summary>
    /// <param name="file">Its content.</param>
    /// <param name="how">How it is to be understood.</param>
    /// <param name="dry">Whether nothing is to be taken.</param>
    /// <param name="stop">Ends the call.</param>
    /// <param name="progress">Hears about once a second how far it is; null where nobody wants to.</param>
    public async Task<ImportReport> ImportAsync(
        Stream file,
        ImportOptions how,
        bool dry,
        CancellationToken stop,
        Action<ImportView>? progress = null
    )
    {
        var ticket = progress is null ? null : Guid.NewGuid().ToString();
        var query = Query(
            "fleet/imports",
            ("source", how.Source),
            ("seen", how.Seen),
            ("format", how.Format),
            ("encoding", how.Encoding),
            ("dry", dry ? "true" : null),
            ("ticket", ticket)
        );
        HttpContent body = how.Mapping is null
            ? Body(file, "text/csv")
            : new MultipartFormDataContent
            {
                { new StringContent(how.Mapping), "mapping", how.MappingName ?? "mapping.yaml" },
                { new StreamContent(file), "file", "file" },
            };
        var import = SendAsync<ImportReport>(HttpMethod.Post, query, body, stop, MostForImport);
        while (progress is not null && await Task.WhenAny(import, Task.Delay(ProgressEvery, stop)) != import)
        {
            if ((await ImportsAsync(stop)).FirstOrDefault(i => i.Ticket == ticket) is { } view)
                progress(view);
        }

        return await import;
    }

    /// <summary>The newest imports, with how far they came.</summary>
    public Task<IReadOnlyList<ImportView>> ImportsAsync(CancellationToken stop) =>
        GetAsync<IReadOnlyList<ImportView>>("fleet/imports", stop);

    /// <summary>The background duties of the service that answers.</summary>
    public Task<IReadOnlyList<DutyView>> DutiesAsync(CancellationToken stop) => GetAsync<IReadOnlyList<DutyView>>("duties", stop);

    /// <summary>The evidence pack of a run, as a zip.</summary>
    public Task<Stream> EvidenceAsync(string run, CancellationToken stop) => DownloadAsync($"runs/{Escape(run)}/evidence", stop);

    /// <summary>The archives of files that a run's steps saved of its machine.</summary>
    public Task<IReadOnlyList<SavedFilesRow>> SavedFilesAsync(string run, CancellationToken stop) =>
        GetAsync<IReadOnlyList<SavedFilesRow>>($"runs/{Escape(run)}/saved-files", stop);

    /// <summary>One of these archives (tar, compressed by gzip).</summary>
    public Task<Stream> SavedArchiveAsync(string run, int leg, string step, CancellationToken stop) =>
        DownloadAsync(Query($"runs/{Escape(run)}/saved-files/{Escape(step)}", ("leg", leg.ToString(CultureInfo.InvariantCulture))), stop);

    /// <summary>The orders of a run that have printed something, oldest first.</summary>
    public Task<IReadOnlyList<OutputRow>> OutputsAsync(string run, CancellationToken stop) =>
        GetAsync<IReadOnlyList<OutputRow>>($"runs/{Escape(run)}/outputs", stop);

    /// <summary>Lines of what an order has printed.</summary>
    /// <param name="run">The run.</param>
    /// <param name="output">The order.</param>
    /// <param name="find">Only lines with this text; null for all.</param>
    /// <param name="from">The number of the first line; null for the last ones.</param>
    /// <param name="limit">How many at most.</param>
    /// <param name="stop">Ends the wait.</param>
    public Task<OutputView> OutputAsync(string run, OutputRow output, string? find, int? from, int limit, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(output);
        return GetAsync<OutputView>(
            Query(
                PathOf(run, output),
                ("find", find),
                ("from", from?.ToString(CultureInfo.InvariantCulture)),
                ("limit", limit.ToString(CultureInfo.InvariantCulture))
            ),
            stop
        );
    }

    /// <summary>All that is kept of what an order has printed, as text.</summary>
    public Task<Stream> OutputTextAsync(string run, OutputRow output, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(output);
        return DownloadAsync($"{PathOf(run, output)}/text", stop);
    }

    private static string PathOf(string run, OutputRow output) =>
        $"runs/{Escape(run)}/outputs/{output.Leg}/{Escape(output.Step)}/{output.Attempt}";

    /// <summary>Undoes an import.</summary>
    public Task<ImportUndoneView> UndoImportAsync(long import, string reason, CancellationToken stop) =>
        SendAsync<ImportUndoneView>(HttpMethod.Post, $"fleet/imports/{import}/undo", JsonContent.Create(new Because(reason)), stop);

    /// <summary>Removes machines from the fleet.</summary>
    public Task<RemovedView> RemoveMachinesAsync(RemoveCommand command, CancellationToken stop) =>
        SendAsync<RemovedView>(HttpMethod.Post, "fleet/removals", JsonContent.Create(command), stop);

    /// <summary>Puts a removed machine back into the fleet.</summary>
    public Task<MachineView> RestoreMachineAsync(string name, string reason, CancellationToken stop) =>
        SendAsync<MachineView>(HttpMethod.Post, $"machines/{Escape(name)}/restore", JsonContent.Create(new Because(reason)), stop);

    /// <summary>The machines of a condition, all of them, part by part.</summary>
    public Task<Page<MachineRow>> MachinesAsync(string? filter, int limit, CancellationToken stop) =>
        AllAsync<MachineRow>("machines", limit, stop, ("filter", filter));

    /// <summary>One machine.</summary>
    public Task<MachineView> MachineAsync(string name, CancellationToken stop) => GetAsync<MachineView>($"machines/{Escape(name)}", stop);

    /// <summary>Whether a machine may go, and why not.</summary>
    public Task<GateView> GateAsync(string name, string? product, string? release, string? plan, CancellationToken stop) =>
        GetAsync<GateView>(Query($"machines/{Escape(name)}/gate", ("product", product), ("release", release), ("plan", plan)), stop);

    /// <summary>Reads a machine now.</summary>
    public Task<MachineView> ReadAsync(string name, CancellationToken stop) =>
        SendAsync<MachineView>(HttpMethod.Post, $"machines/{Escape(name)}/readings", null, stop);

    /// <summary>Pins another host key.</summary>
    public Task<ConnectionView> PinAsync(string name, HostKeyCommand command, CancellationToken stop) =>
        SendAsync<ConnectionView>(HttpMethod.Put, $"machines/{Escape(name)}/host-key", JsonContent.Create(command), stop);

    /// <summary>Whether a scope may go.</summary>
    public Task<ReadinessView> ReadinessAsync(string? product, string? release, string? plan, string? scope, CancellationToken stop) =>
        GetAsync<ReadinessView>(Query("readiness", ("product", product), ("release", release), ("plan", plan), ("scope", scope)), stop);

    /// <summary>The machines behind a number of the readiness.</summary>
    public Task<Page<ReadinessRow>> ReadinessMachinesAsync(
        string? product,
        string? release,
        string? plan,
        string? scope,
        string? check,
        string? state,
        string? gate,
        CancellationToken stop
    ) =>
        AllAsync<ReadinessRow>(
            "readiness/machines",
            int.MaxValue,
            stop,
            ("product", product),
            ("release", release),
            ("plan", plan),
            ("scope", scope),
            ("check", check),
            ("state", state),
            ("gate", gate)
        );

    /// <summary>The readiness as a file: <c>html</c>, <c>csv</c> or <c>json</c>.</summary>
    public Task<Stream> ReadinessReportAsync(
        string? product,
        string? release,
        string? plan,
        string? scope,
        string format,
        CancellationToken stop
    ) =>
        DownloadAsync(
            Query("readiness/report", ("product", product), ("release", release), ("plan", plan), ("scope", scope), ("format", format)),
            stop
        );

    /// <summary>Asks one check of a machine again, from readings of now.</summary>
    public Task<GateView> RecheckAsync(string machine, string check, CancellationToken stop) =>
        SendAsync<GateView>(HttpMethod.Post, $"machines/{Escape(machine)}/checks/{Escape(check)}/recheck", null, stop);

    /// <summary>Waives a must on a machine.</summary>
    public Task<GateView> WaiveAsync(string machine, string check, WaiveCommand command, CancellationToken stop) =>
        SendAsync<GateView>(
            HttpMethod.Post,
            $"machines/{Escape(machine)}/checks/{Escape(check)}/waivers",
            JsonContent.Create(command),
            stop
        );

    /// <summary>All waivers, newest first.</summary>
    public Task<IReadOnlyList<WaiverView>> WaiversAsync(CancellationToken stop) => GetAsync<IReadOnlyList<WaiverView>>("waivers", stop);

    /// <summary>Ends a waiver before its time.</summary>
    public Task EndWaiverAsync(string id, string reason, CancellationToken stop) =>
        SendAsync<object?>(HttpMethod.Post, $"waivers/{Escape(id)}/end", JsonContent.Create(new Because(reason)), stop);

    /// <summary>Sends the script that fixes a check to a machine.</summary>
    public Task<FixRunView> FixAsync(string machine, string check, FixCommand command, string? plan, CancellationToken stop) =>
        SendAsync<FixRunView>(
            HttpMethod.Post,
            $"machines/{Escape(machine)}/checks/{Escape(check)}/fixes{(plan is null ? "" : $"?plan={Escape(plan)}")}",
            JsonContent.Create(command),
            stop
        );

    /// <summary>The fixes of a machine or of all, newest first.</summary>
    public Task<IReadOnlyList<FixRunView>> FixesAsync(string? machine, CancellationToken stop) =>
        GetAsync<IReadOnlyList<FixRunView>>(Query("fixes", ("machine", machine)), stop);

    /// <summary>What the vendor's support needs to help with a machine, as a zip.</summary>
    public Task<Stream> ReferralAsync(string machine, CancellationToken stop) =>
        DownloadAsync($"machines/{Escape(machine)}/referral", stop);

    /// <summary>How a reading of a machine changed, newest first.</summary>
    public Task<IReadOnlyList<ReadingView>> HistoryAsync(string machine, string key, CancellationToken stop) =>
        GetAsync<IReadOnlyList<ReadingView>>($"machines/{Escape(machine)}/readings/{Escape(key)}", stop);

    /// <summary>Where two sources conflict.</summary>
    public Task<Page<ConflictView>> ConflictsAsync(string? filter, int limit, CancellationToken stop) =>
        AllAsync<ConflictView>("conflicts", limit, stop, ("filter", filter));

    /// <summary>Which machines run what, and when their support ends.</summary>
    public Task<IReadOnlyList<ExposureView>> ExposureAsync(string? product, string? by, CancellationToken stop) =>
        GetAsync<IReadOnlyList<ExposureView>>(Query("exposure", ("product", product), ("by", by)), stop);

    /// <summary>Chooses the method of one machine; null goes back to the plan's order.</summary>
    public Task ChooseMethodAsync(string plan, string machine, MethodCommand command, CancellationToken stop) =>
        SendAsync<object?>(HttpMethod.Put, $"plans/{Escape(plan)}/members/{Escape(machine)}/method", JsonContent.Create(command), stop);

    /// <summary>What has to be acknowledged before a plan starts.</summary>
    public Task<IReadOnlyList<AcknowledgementView>> AcknowledgementsAsync(string plan, CancellationToken stop) =>
        GetAsync<IReadOnlyList<AcknowledgementView>>($"plans/{Escape(plan)}/acknowledgements", stop);

    /// <summary>Acknowledges some of it, or all.</summary>
    public Task<IReadOnlyList<AcknowledgementView>> AcknowledgeAsync(string plan, AcknowledgeCommand command, CancellationToken stop) =>
        SendAsync<IReadOnlyList<AcknowledgementView>>(
            HttpMethod.Post,
            $"plans/{Escape(plan)}/acknowledgements",
            JsonContent.Create(command),
            stop
        );

    /// <summary>Makes a plan from YAML.</summary>
    public Task<PlanView> CreatePlanAsync(Stream yaml, CancellationToken stop) =>
        SendAsync<PlanView>(HttpMethod.Post, "plans", Body(yaml, "application/yaml"), stop);

    /// <summary>All plans.</summary>
    public Task<IReadOnlyList<PlanRow>> PlansAsync(CancellationToken stop) => GetAsync<IReadOnlyList<PlanRow>>("plans", stop);

    /// <summary>One plan.</summary>
    public Task<PlanView> PlanAsync(string name, CancellationToken stop) => GetAsync<PlanView>($"plans/{Escape(name)}", stop);

    /// <summary>The machines of a plan.</summary>
    public Task<Page<MemberRow>> MembersAsync(string name, string? status, int? wave, string? filter, int limit, CancellationToken stop) =>
        AllAsync<MemberRow>(
            $"plans/{Escape(name)}/members",
            limit,
            stop,
            ("status", status),
            ("wave", wave?.ToString(System.Globalization.CultureInfo.InvariantCulture)),
            ("filter", filter)
        );

    /// <summary>What loading a plan's text would change; nothing is kept.</summary>
    public Task<ComparisonView> ComparePlanAsync(Stream yaml, CancellationToken stop) =>
        SendAsync<ComparisonView>(HttpMethod.Post, "plans/compare", Body(yaml, "application/yaml"), stop);

    /// <summary>Loads a plan's next revision; where it is said after which one, only if the plan still has that.</summary>
    public Task<PlanView> LoadPlanAsync(string name, Stream yaml, string reason, int? after, CancellationToken stop) =>
        SendAsync<PlanView>(
            HttpMethod.Put,
            Query($"plans/{Escape(name)}", ("reason", reason), ("after", after?.ToString(CultureInfo.InvariantCulture))),
            Body(yaml, "application/yaml"),
            stop
        );

    /// <summary>How a plan would be scheduled if it went on now, and what would let it end in time.</summary>
    public Task<ScheduleView> ScheduleAsync(string name, CancellationToken stop) =>
        GetAsync<ScheduleView>($"plans/{Escape(name)}/schedule", stop);

    /// <summary>A plan by site over time.</summary>
    public Task<BoardView> BoardAsync(string name, DateTimeOffset? from, DateTimeOffset? to, CancellationToken stop) =>
        GetAsync<BoardView>(Query($"plans/{Escape(name)}/board", ("from", from?.ToString("O")), ("to", to?.ToString("O"))), stop);

    /// <summary>The texts that a plan had.</summary>
    public Task<IReadOnlyList<RevisionRow>> RevisionsAsync(string name, CancellationToken stop) =>
        GetAsync<IReadOnlyList<RevisionRow>>($"plans/{Escape(name)}/revisions", stop);

    /// <summary>Says yes to a plan or a wave of it.</summary>
    public Task<IReadOnlyList<ApprovalView>> ApproveAsync(string name, ApprovalCommand command, CancellationToken stop) =>
        SendAsync<IReadOnlyList<ApprovalView>>(HttpMethod.Post, $"plans/{Escape(name)}/approvals", JsonContent.Create(command), stop);

    /// <summary>The times that a machine can have.</summary>
    public Task<TimesView> TimesAsync(string name, string machine, DateTimeOffset? from, DateTimeOffset? to, CancellationToken stop) =>
        GetAsync<TimesView>(
            Query($"plans/{Escape(name)}/members/{Escape(machine)}/times", ("from", from?.ToString("O")), ("to", to?.ToString("O"))),
            stop
        );

    /// <summary>What would come of it if a machine were given a time.</summary>
    public Task<TrialView> TryTimeAsync(string name, string machine, DateTimeOffset start, CancellationToken stop) =>
        GetAsync<TrialView>($"plans/{Escape(name)}/members/{Escape(machine)}/times/{Escape(start.UtcDateTime.ToString("O"))}", stop);

    /// <summary>Gives a machine a time, or gives up the one that was chosen.</summary>
    public Task RescheduleAsync(string name, string machine, RescheduleCommand command, CancellationToken stop) =>
        SendAsync<object>(HttpMethod.Post, $"plans/{Escape(name)}/members/{Escape(machine)}/reschedule", JsonContent.Create(command), stop);

    /// <summary>The share links of a plan's slots.</summary>
    public Task<IReadOnlyList<ShareLinkRow>> ShareLinksAsync(string name, CancellationToken stop) =>
        GetAsync<IReadOnlyList<ShareLinkRow>>($"plans/{Escape(name)}/share-links", stop);

    /// <summary>Makes a share link of some of a plan's slots.</summary>
    public Task<NewShareLink> MakeShareLinkAsync(string name, ShareLinkCommand command, CancellationToken stop) =>
        SendAsync<NewShareLink>(HttpMethod.Post, $"plans/{Escape(name)}/share-links", JsonContent.Create(command), stop);

    /// <summary>Ends a share link.</summary>
    public Task EndShareLinkAsync(string name, string id, string reason, CancellationToken stop) =>
        SendAsync<object>(
            HttpMethod.Post,
            $"plans/{Escape(name)}/share-links/{Escape(id)}/end",
            JsonContent.Create(new Because(reason)),
            stop
        );

    /// <summary>Moves a machine to another wave.</summary>
    public Task MoveAsync(string name, string machine, MoveCommand command, CancellationToken stop) =>
        SendAsync<object>(HttpMethod.Post, $"plans/{Escape(name)}/members/{Escape(machine)}/move", JsonContent.Create(command), stop);

    /// <summary>What the fleet as it is now would change of a plan's membership.</summary>
    public Task<IReadOnlyList<WaveChangeRow>> ProposalsAsync(string name, CancellationToken stop) =>
        GetAsync<IReadOnlyList<WaveChangeRow>>($"plans/{Escape(name)}/proposals", stop);

    /// <summary>Accepts what the fleet as it is now would change.</summary>
    public Task<PlanView> AcceptProposalsAsync(string name, string reason, CancellationToken stop) =>
        SendAsync<PlanView>(HttpMethod.Post, $"plans/{Escape(name)}/proposals", JsonContent.Create(new Because(reason)), stop);

    /// <summary>A plan's slots as a file: <c>ics</c>, <c>csv</c> or <c>html</c>; each of the others narrows it down.</summary>
    public Task<Stream> SlotsAsync(
        string name,
        string format,
        int? wave,
        string? site,
        string? crew,
        string? owner,
        CancellationToken stop
    ) =>
        DownloadAsync(
            Query(
                $"plans/{Escape(name)}/slots",
                ("format", format),
                ("wave", wave?.ToString(System.Globalization.CultureInfo.InvariantCulture)),
                ("site", site),
                ("crew", crew),
                ("owner", owner)
            ),
            stop
        );

    /// <summary>The calendars that plans can refer to.</summary>
    public Task<IReadOnlyList<CalendarRow>> CalendarsAsync(CancellationToken stop) =>
        GetAsync<IReadOnlyList<CalendarRow>>("calendars", stop);

    /// <summary>What holds for the whole service.</summary>
    public Task<SettingsView> SettingsAsync(CancellationToken stop) => GetAsync<SettingsView>("settings", stop);

    /// <summary>Changes what holds for the whole service.</summary>
    public Task<SettingsView> ChangeSettingsAsync(SettingsCommand command, CancellationToken stop) =>
        SendAsync<SettingsView>(HttpMethod.Put, "settings", JsonContent.Create(command), stop);

    /// <summary>A calendar's text.</summary>
    public Task<Stream> CalendarAsync(string name, CancellationToken stop) => DownloadAsync($"calendars/{Escape(name)}", stop);

    /// <summary>Loads a calendar, in place of the one of that name.</summary>
    public Task<CalendarRow> LoadCalendarAsync(string name, Stream ics, CancellationToken stop) =>
        SendAsync<CalendarRow>(HttpMethod.Put, $"calendars/{Escape(name)}", Body(ics, "text/calendar"), stop);

    /// <summary>Starts a plan, or goes on with a held one.</summary>
    public Task<PlanView> StartAsync(string name, CancellationToken stop) =>
        SendAsync<PlanView>(HttpMethod.Post, $"plans/{Escape(name)}/start", null, stop);

    /// <summary>Deletes a plan that was never started.</summary>
    public Task DiscardAsync(string plan, string reason, CancellationToken stop) =>
        SendAsync<object?>(HttpMethod.Post, $"plans/{Escape(plan)}/discard", JsonContent.Create(new Because(reason)), stop);

    /// <summary>Holds a plan.</summary>
    public Task<PlanView> HoldAsync(string name, string reason, CancellationToken stop) =>
        SendAsync<PlanView>(HttpMethod.Post, $"plans/{Escape(name)}/hold", JsonContent.Create(new Because(reason)), stop);

    /// <summary>Exempts a machine from a plan.</summary>
    public Task ExemptAsync(string plan, string machine, ExemptCommand command, CancellationToken stop) =>
        SendAsync<object?>(HttpMethod.Post, $"plans/{Escape(plan)}/members/{Escape(machine)}/exemption", JsonContent.Create(command), stop);

    /// <summary>Lets a machine whose run has ended go again.</summary>
    public Task AgainAsync(string plan, string machine, string reason, CancellationToken stop) =>
        SendAsync<object?>(
            HttpMethod.Post,
            $"plans/{Escape(plan)}/members/{Escape(machine)}/again",
            JsonContent.Create(new Because(reason)),
            stop
        );

    /// <summary>The runs, those that need somebody first.</summary>
    public Task<Page<RunRow>> RunsAsync(string? plan, string? status, int limit, CancellationToken stop) =>
        AllAsync<RunRow>("runs", limit, stop, ("plan", plan), ("status", status));

    /// <summary>The runs that ask something of a person now.</summary>
    public Task<Page<RunRow>> AskedRunsAsync(string? plan, int limit, CancellationToken stop) =>
        AllAsync<RunRow>("runs", limit, stop, ("plan", plan), ("asked", "true"));

    /// <summary>The runs of which something on their machine is suspended.</summary>
    public Task<Page<RunRow>> SuspendedRunsAsync(string? plan, int limit, CancellationToken stop) =>
        AllAsync<RunRow>("runs", limit, stop, ("plan", plan), ("suspended", "true"));

    /// <summary>One run.</summary>
    public Task<RunView> RunAsync(string run, CancellationToken stop) => GetAsync<RunView>($"runs/{Escape(run)}", stop);

    /// <summary>Decides about a run.</summary>
    public Task<RunView> DecideAsync(string run, DecisionCommand command, CancellationToken stop) =>
        SendAsync<RunView>(HttpMethod.Post, $"runs/{Escape(run)}/decisions", JsonContent.Create(command), stop);

    /// <summary>Keeps the rollback of a verified run for longer.</summary>
    public Task<RunView> KeepRollbackAsync(string run, KeepRollbackCommand command, CancellationToken stop) =>
        SendAsync<RunView>(HttpMethod.Post, $"runs/{Escape(run)}/rollback-period", JsonContent.Create(command), stop);

    /// <summary>Says what kind of reason runs were rolled back for.</summary>
    public Task<BulkResult> CategoriseRollbacksAsync(CategoriseRollbacksCommand command, CancellationToken stop) =>
        SendAsync<BulkResult>(HttpMethod.Post, "rollbacks/categorise", JsonContent.Create(command), stop);

    /// <summary>Answers what a run asks of a person.</summary>
    public Task<RunView> AnswerAsync(string run, AnswerCommand command, CancellationToken stop) =>
        SendAsync<RunView>(HttpMethod.Post, $"runs/{Escape(run)}/answers", JsonContent.Create(command), stop);

    /// <summary>What is left to do on machines, or what was done and closed, the last of it first.</summary>
    public Task<Page<FollowUpRow>> FollowUpsAsync(
        string? plan,
        string? owner,
        bool overdue,
        int limit,
        CancellationToken stop,
        bool closed = false
    ) =>
        AllAsync<FollowUpRow>(
            "follow-ups",
            limit,
            stop,
            ("plan", plan),
            ("owner", owner),
            ("overdue", overdue ? "true" : null),
            ("closed", closed ? "true" : null)
        );

    /// <summary>Adds a follow-up to a run.</summary>
    public Task<RunView> AddFollowUpAsync(string run, AddFollowUpCommand command, CancellationToken stop) =>
        SendAsync<RunView>(HttpMethod.Post, $"runs/{Escape(run)}/follow-ups", JsonContent.Create(command), stop);

    /// <summary>Says who is to do follow-ups, and by when.</summary>
    public Task<BulkResult> AssignFollowUpsAsync(AssignFollowUpsCommand command, CancellationToken stop) =>
        SendAsync<BulkResult>(HttpMethod.Post, "follow-ups/assign", JsonContent.Create(command), stop);

    /// <summary>Runs the scripts of follow-ups.</summary>
    public Task<BulkResult> FixFollowUpsAsync(FixFollowUpsCommand command, CancellationToken stop) =>
        SendAsync<BulkResult>(HttpMethod.Post, "follow-ups/fix", JsonContent.Create(command), stop);

    /// <summary>Closes follow-ups.</summary>
    public Task<BulkResult> CloseFollowUpsAsync(CloseFollowUpsCommand command, CancellationToken stop) =>
        SendAsync<BulkResult>(HttpMethod.Post, "follow-ups/close", JsonContent.Create(command), stop);

    /// <summary>How the machines of a plan ended or stand.</summary>
    public Task<OutcomesView> OutcomesAsync(string plan, CancellationToken stop) =>
        GetAsync<OutcomesView>($"outcomes/{Escape(plan)}", stop);

    /// <summary>One page of a plan.</summary>
    public Task<OverviewView> OverviewAsync(string plan, CancellationToken stop) =>
        GetAsync<OverviewView>($"overview/{Escape(plan)}", stop);

    /// <summary>How one can sign in; the caller need not be signed in.</summary>
    public Task<SignInWays> SignInWaysAsync(CancellationToken stop) => GetAsync<SignInWays>("sign-in-ways", stop);

    /// <summary>All accounts.</summary>
    public Task<IReadOnlyList<AccountView>> AccountsAsync(CancellationToken stop) => GetAsync<IReadOnlyList<AccountView>>("accounts", stop);

    /// <summary>Makes an account.</summary>
    public Task<AccountView> AddAccountAsync(AccountCommand command, CancellationToken stop) =>
        SendAsync<AccountView>(HttpMethod.Post, "accounts", JsonContent.Create(command), stop);

    /// <summary>Changes what an account may.</summary>
    public Task<AccountView> ChangeAccountAsync(string name, AccountChange change, CancellationToken stop) =>
        SendAsync<AccountView>(HttpMethod.Put, $"accounts/{Escape(name)}", JsonContent.Create(change), stop);

    /// <summary>Sets an account's password.</summary>
    public Task SetPasswordAsync(string name, string password, CancellationToken stop) =>
        SendAsync<object?>(HttpMethod.Put, $"accounts/{Escape(name)}/password", JsonContent.Create(new PasswordCommand(password)), stop);

    /// <summary>Changes one's own password.</summary>
    public Task ChangePasswordAsync(PasswordChange change, CancellationToken stop) =>
        SendAsync<object?>(HttpMethod.Put, "session/password", JsonContent.Create(change), stop);

    /// <summary>Ends an account with all its sessions and tokens.</summary>
    public Task EndAccountAsync(string name, string reason, CancellationToken stop) =>
        SendAsync<object?>(HttpMethod.Post, $"accounts/{Escape(name)}/end", JsonContent.Create(new Because(reason)), stop);

    /// <summary>One's own tokens; for an admin those of an account, or all.</summary>
    public Task<IReadOnlyList<TokenView>> TokensAsync(string? account, CancellationToken stop) =>
        GetAsync<IReadOnlyList<TokenView>>(Query("tokens", ("account", account)), stop);

    /// <summary>Creates a token, which is shown only once.</summary>
    public Task<NewToken> CreateTokenAsync(TokenCommand command, CancellationToken stop) =>
        SendAsync<NewToken>(HttpMethod.Post, "tokens", JsonContent.Create(command), stop);

    /// <summary>Ends a token.</summary>
    public Task EndTokenAsync(string id, string reason, CancellationToken stop) =>
        SendAsync<object?>(HttpMethod.Post, $"tokens/{Escape(id)}/end", JsonContent.Create(new Because(reason)), stop);

    /// <summary>One's own sessions; for an admin those of an account, or all.</summary>
    public Task<IReadOnlyList<SignedInView>> SessionsAsync(string? account, CancellationToken stop) =>
        GetAsync<IReadOnlyList<SignedInView>>(Query("sessions", ("account", account)), stop);

    /// <summary>Ends a session.</summary>
    public Task EndSessionAsync(string id, CancellationToken stop) =>
        SendAsync<object?>(HttpMethod.Delete, $"sessions/{Escape(id)}", null, stop);

    /// <summary>What there is to know of the secrets; never a secret.</summary>
    public Task<IReadOnlyList<SecretView>> SecretsAsync(CancellationToken stop) => GetAsync<IReadOnlyList<SecretView>>("secrets", stop);

    /// <summary>Stores a secret.</summary>
    public Task PutSecretAsync(string name, string value, CancellationToken stop) =>
        SendAsync<object?>(HttpMethod.Put, $"secrets/{Escape(name)}", JsonContent.Create(new SecretCommand(value)), stop);

    /// <summary>Takes a secret away.</summary>
    public Task RemoveSecretAsync(string name, string reason, CancellationToken stop) =>
        SendAsync<object?>(HttpMethod.Post, $"secrets/{Escape(name)}/remove", JsonContent.Create(new Because(reason)), stop);

    /// <summary>Encrypts all secrets with a new key.</summary>
    public Task<RotationView> RotateSecretsAsync(CancellationToken stop) =>
        SendAsync<RotationView>(HttpMethod.Post, "secrets/rotate", null, stop);

    /// <summary>The host keys of the machines of a condition.</summary>
    public Task<Page<HostKeyView>> HostKeysAsync(string? filter, string? from, int limit, CancellationToken stop) =>
        AllAsync<HostKeyView>("host-keys", limit, stop, ("filter", filter), ("from", from));

    /// <summary>Pins the keys of a known_hosts file, or says what that would do.</summary>
    public Task<IReadOnlyList<KnownHostView>> KnownHostsAsync(Stream file, bool dry, string? reason, CancellationToken stop) =>
        SendAsync<IReadOnlyList<KnownHostView>>(
            HttpMethod.Post,
            Query("host-keys/known-hosts", ("dry", dry ? "true" : null), ("reason", reason)),
            Body(file, "text/plain"),
            stop
        );

    /// <summary>Asks for a rehearsal of a plan.</summary>
    public Task<RehearsalView> RehearseAsync(string plan, RehearsalRequest request, CancellationToken stop) =>
        SendAsync<RehearsalView>(HttpMethod.Post, $"plans/{Escape(plan)}/rehearsals", JsonContent.Create(request), stop);

    /// <summary>The rehearsals of a plan, newest first, without what came of them.</summary>
    public Task<IReadOnlyList<RehearsalView>> RehearsalsAsync(string plan, CancellationToken stop) =>
        GetAsync<IReadOnlyList<RehearsalView>>($"plans/{Escape(plan)}/rehearsals", stop);

    /// <summary>A rehearsal, with what came of it once it is done.</summary>
    public Task<RehearsalView> RehearsalAsync(string plan, long id, CancellationToken stop) =>
        GetAsync<RehearsalView>($"plans/{Escape(plan)}/rehearsals/{id}", stop);

    /// <summary>Ends a rehearsal that is not over.</summary>
    public Task CancelRehearsalAsync(string plan, long id, CancellationToken stop) =>
        SendAsync<object?>(HttpMethod.Delete, $"plans/{Escape(plan)}/rehearsals/{id}", null, stop);

    /// <summary>The forecast of a running plan.</summary>
    public Task<ForecastView> ForecastAsync(string plan, CancellationToken stop) =>
        GetAsync<ForecastView>($"plans/{Escape(plan)}/forecast", stop);

    /// <summary>The sites where first use is trusted.</summary>
    public Task<IReadOnlyList<FirstUseView>> FirstUseAsync(CancellationToken stop) =>
        GetAsync<IReadOnlyList<FirstUseView>>("host-keys/first-use", stop);

    /// <summary>Lets first use be trusted at a site, or no longer.</summary>
    public Task TrustFirstUseAsync(string site, bool trusts, string reason, CancellationToken stop) =>
        SendAsync<object?>(
            trusts ? HttpMethod.Put : HttpMethod.Post,
            $"host-keys/first-use/{Escape(site)}{(trusts ? "" : "/end")}",
            JsonContent.Create(new Because(reason)),
            stop
        );

    /// <summary>What ran where, newest first.</summary>
    public Task<Page<ScriptUseView>> ScriptUsesAsync(string? machine, string? hash, string? script, int limit, CancellationToken stop) =>
        AllAsync<ScriptUseView>("scripts/uses", limit, stop, ("machine", machine), ("hash", hash), ("script", script));

    /// <summary>What of the catalogue waits for approval.</summary>
    public Task<IReadOnlyList<CatalogueChangeView>> CatalogueChangesAsync(CancellationToken stop) =>
        GetAsync<IReadOnlyList<CatalogueChangeView>>("catalogue/changes", stop);

    /// <summary>Approves what waits of a product.</summary>
    public Task ApproveCatalogueAsync(string product, string hash, string reason, CancellationToken stop) =>
        SendAsync<object?>(
            HttpMethod.Post,
            $"catalogue/changes/{Escape(product)}/approve",
            JsonContent.Create(new ApproveCommand(hash, reason)),
            stop
        );

    /// <summary>Who did what, newest first.</summary>
    public Task<Page<AuditView>> AuditAsync(
        string? actor,
        string? command,
        string? subject,
        string? machine,
        string? since,
        string? until,
        int limit,
        CancellationToken stop
    ) =>
        AllAsync<AuditView>(
            "audit",
            limit,
            stop,
            ("actor", actor),
            ("command", command),
            ("subject", subject),
            ("machine", machine),
            ("since", since),
            ("until", until)
        );

    /// <summary>The sealed audit as JSON Lines.</summary>
    public Task<Stream> ExportAuditAsync(CancellationToken stop) => DownloadAsync("audit/export", stop);

    /// <summary>Whether the audit is as it was sealed.</summary>
    public Task<AuditVerdict> VerifyAuditAsync(CancellationToken stop) => GetAsync<AuditVerdict>("audit/verdict", stop);

    /// <summary>The changes as they happen, from now on or after a position.</summary>
    public async IAsyncEnumerable<ChangeView> ChangesAsync(long? after, [EnumeratorCancellation] CancellationToken stop)
    {
        using var request = new HttpRequestMessage(HttpMethod.Get, "events");
        if (after is { } position)
            request.Headers.Add("Last-Event-ID", $"{position}");
        using var response = await SendAsync(request, stop);
        await using var stream = await response.Content.ReadAsStreamAsync(stop);
        await foreach (var item in SseParser.Create(stream).EnumerateAsync(stop))
        {
            if (item.EventType == "change")
                yield return JsonSerializer.Deserialize<ChangeView>(item.Data, Json)!;
        }
    }

    /// <inheritdoc />
    public void Dispose() => _http.Dispose();

    private static StreamContent Body(Stream stream, string type) =>
        new(stream) { Headers = { ContentType = new(type) { CharSet = "utf-8" } } };

    private static string Escape(string text) => Uri.EscapeDataString(text);

    private static string Query(string path, params (string Name, string? Value)[] values)
    {
        var given = values.Where(v => v.Value is not null).Select(v => $"{v.Name}={Escape(v.Value!)}").ToArray();
        return given.Length == 0 ? path : $"{path}?{string.Join('&', given)}";
    }

    private async Task<Page<T>> AllAsync<T>(string path, int limit, CancellationToken stop, params (string, string?)[] values)
    {
        var items = new List<T>();
        string? cursor = null;
        while (true)
        {
            var part = await GetAsync<Page<T>>(
                Query(path, [.. values, ("limit", $"{Math.Min(1000, limit - items.Count)}"), ("cursor", cursor)]),
                stop
            );
            items.AddRange(part.Items);
            cursor = part.Next;
            if (cursor is null || items.Count >= limit)
                return new(items, cursor, part.Total);
        }
    }

    private async Task<Stream> DownloadAsync(string path, CancellationToken stop)
    {
        using var request = new HttpRequestMessage(HttpMethod.Get, path);
        using var response = await SendAsync(request, stop);
        var buffer = new MemoryStream();
        await response.Content.CopyToAsync(buffer, stop);
        buffer.Position = 0;
        return buffer;
    }

    private Task<T> GetAsync<T>(string path, CancellationToken stop) => SendAsync<T>(HttpMethod.Get, path, null, stop);

    private async Task<T> SendAsync<T>(HttpMethod method, string path, HttpContent? body, CancellationToken stop, TimeSpan? limit = null)
    {
        using var request = new HttpRequestMessage(method, path) { Content = body };
        using var response = await SendAsync(request, stop, limit);
        return response.StatusCode == HttpStatusCode.NoContent ? default! : (await response.Content.ReadFromJsonAsync<T>(Json, stop))!;
    }

    private async Task<HttpResponseMessage> SendAsync(HttpRequestMessage request, CancellationToken stop, TimeSpan? limit = null)
    {
        HttpResponseMessage response;
        using var late = CancellationTokenSource.CreateLinkedTokenSource(stop);
        late.CancelAfter(limit ?? MostForAnswer);
        try
        {
            response = await _http.SendAsync(request, HttpCompletionOption.ResponseHeadersRead, late.Token);
        }
        catch (OperationCanceledException error) when (!stop.IsCancellationRequested)
        {
            throw new ServiceException(
                0,
                "no-answer",
                $"The service at {_http.BaseAddress!.GetLeftPart(UriPartial.Authority)} took the call and has not answered for "
                    + $"{(limit ?? MostForAnswer).TotalMinutes:0} minutes. See with another command what came of it.",
                error
            );
        }
        catch (HttpRequestException error)
        {
            throw new ServiceException(
                0,
                "no-service",
                $"No service answers at {_http.BaseAddress!.GetLeftPart(UriPartial.Authority)} ({error.Message}). Start it, or say "
                    + $"where it is with --service URL.",
                error
            );
        }

        if (response.IsSuccessStatusCode)
            return response;
        using (response)
            throw await ProblemAsync(response, stop);
    }

    /// <summary>The file that a problem is in, where the call sent several.</summary>
    private static string FileOf(JsonElement problem) =>
        problem.TryGetProperty("file", out var file)
        && file.GetString() is { Length: > 0 } name
        && !name.StartsWith("the ", StringComparison.Ordinal)
            ? $"{name}, "
            : "";

    private static async Task<ServiceException> ProblemAsync(HttpResponseMessage response, CancellationToken stop)
    {
        var text = await response.Content.ReadAsStringAsync(stop);
        var status = (int)response.StatusCode;
        if (response.Content.Headers.ContentType?.MediaType != "application/problem+json")
            return new(
                status,
                "answer",
                $"The service answered {status} {response.ReasonPhrase}, and not as Grand Stair does. Is it one? "
                    + $"({response.RequestMessage!.RequestUri})"
            );
        using var problem = JsonDocument.Parse(text);
        var root = problem.RootElement;
        var type = root.TryGetProperty("type", out var t) ? t.GetString() ?? "" : "";
        var problems =
            root.TryGetProperty("problems", out var list) && list.ValueKind == JsonValueKind.Array
                ? list.EnumerateArray()
                    .Select(p =>
                        $"{FileOf(p)}line {p.GetProperty("line").GetInt32()}"
                        + $"{(p.GetProperty("column").GetInt32() is > 0 and var column ? $", column {column}" : "")}: "
                        + $"{p.GetProperty("message").GetString()}"
                    )
                    .ToArray()
                : [];
        return new(status, type.Split(':')[^1], root.TryGetProperty("detail", out var detail) ? detail.GetString() ?? "" : text)
        {
            Problems = problems,
        };
    }
}
