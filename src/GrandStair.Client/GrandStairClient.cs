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

/// <summary>Calls a Grand Stair service.</summary>
public sealed class GrandStairClient : IDisposable
{
    private static readonly JsonSerializerOptions Json = new(JsonSerializerDefaults.Web);
    private readonly HttpClient _http;

    /// <summary>Calls the service at an address with a token.</summary>
    public GrandStairClient(Uri service, string token)
    {
        _http = new() { BaseAddress = new(service, "/api/v1/"), Timeout = TimeSpan.FromMinutes(5) };
        _http.DefaultRequestHeaders.Authorization = new("Bearer", token);
    }

    /// <summary>Who calls, and the service's clock.</summary>
    public Task<SessionView> SessionAsync(CancellationToken stop) => GetAsync<SessionView>("session", stop);

    /// <summary>All reading keys.</summary>
    public Task<IReadOnlyList<KeyView>> KeysAsync(CancellationToken stop) => GetAsync<IReadOnlyList<KeyView>>("keys", stop);

    /// <summary>The products of the catalogue.</summary>
    public Task<IReadOnlyList<ProductView>> CatalogueAsync(CancellationToken stop) => GetAsync<IReadOnlyList<ProductView>>("catalogue", stop);

    /// <summary>Imports a fleet file.</summary>
    public Task<ImportReport> ImportAsync(Stream csv, string? source, string? seen, bool dry, CancellationToken stop) =>
        SendAsync<ImportReport>(HttpMethod.Post, Query("fleet/imports", ("source", source), ("seen", seen), ("dry", dry ? "true" : null)), Body(csv, "text/csv"), stop);

    /// <summary>The machines of a condition, all of them, part by part.</summary>
    public Task<Page<MachineRow>> MachinesAsync(string? filter, int limit, CancellationToken stop) => AllAsync<MachineRow>("machines", limit, stop, ("filter", filter));

    /// <summary>One machine.</summary>
    public Task<MachineView> MachineAsync(string name, CancellationToken stop) => GetAsync<MachineView>($"machines/{Escape(name)}", stop);

    /// <summary>Whether a machine may go, and why not.</summary>
    public Task<GateView> GateAsync(string name, string? product, string? release, string? plan, CancellationToken stop) =>
        GetAsync<GateView>(Query($"machines/{Escape(name)}/gate", ("product", product), ("release", release), ("plan", plan)), stop);

    /// <summary>Reads a machine now.</summary>
    public Task<MachineView> ReadAsync(string name, CancellationToken stop) => SendAsync<MachineView>(HttpMethod.Post, $"machines/{Escape(name)}/readings", null, stop);

    /// <summary>Pins another host key.</summary>
    public Task<LinkView> PinAsync(string name, HostKeyCommand command, CancellationToken stop) => SendAsync<LinkView>(HttpMethod.Put, $"machines/{Escape(name)}/host-key", JsonContent.Create(command), stop);

    /// <summary>Whether a scope may go.</summary>
    public Task<ReadinessView> ReadinessAsync(string? product, string? release, string? plan, string? scope, CancellationToken stop) =>
        GetAsync<ReadinessView>(Query("readiness", ("product", product), ("release", release), ("plan", plan), ("scope", scope)), stop);

    /// <summary>The machines behind a number of the readiness.</summary>
    public Task<Page<ReadinessRow>> ReadinessMachinesAsync(string? product, string? release, string? plan, string? scope, string? check, string? state, string? gate, CancellationToken stop) =>
        AllAsync<ReadinessRow>("readiness/machines", int.MaxValue, stop, ("product", product), ("release", release), ("plan", plan), ("scope", scope), ("check", check), ("state", state), ("gate", gate));

    /// <summary>Makes a plan from YAML.</summary>
    public Task<PlanView> CreatePlanAsync(Stream yaml, CancellationToken stop) => SendAsync<PlanView>(HttpMethod.Post, "plans", Body(yaml, "application/yaml"), stop);

    /// <summary>All plans.</summary>
    public Task<IReadOnlyList<PlanRow>> PlansAsync(CancellationToken stop) => GetAsync<IReadOnlyList<PlanRow>>("plans", stop);

    /// <summary>One plan.</summary>
    public Task<PlanView> PlanAsync(string name, CancellationToken stop) => GetAsync<PlanView>($"plans/{Escape(name)}", stop);

    /// <summary>The machines of a plan.</summary>
    public Task<Page<MemberRow>> MembersAsync(string name, string? standing, int? wave, string? filter, int limit, CancellationToken stop) =>
        AllAsync<MemberRow>($"plans/{Escape(name)}/members", limit, stop, ("standing", standing), ("wave", wave?.ToString(System.Globalization.CultureInfo.InvariantCulture)), ("filter", filter));

    /// <summary>Starts a plan, or goes on with a held one.</summary>
    public Task<PlanView> StartAsync(string name, CancellationToken stop) => SendAsync<PlanView>(HttpMethod.Post, $"plans/{Escape(name)}/start", null, stop);

    /// <summary>Holds a plan.</summary>
    public Task<PlanView> HoldAsync(string name, string reason, CancellationToken stop) => SendAsync<PlanView>(HttpMethod.Post, $"plans/{Escape(name)}/hold", JsonContent.Create(new Because(reason)), stop);

    /// <summary>Excuses a machine from a plan.</summary>
    public Task ExcuseAsync(string plan, string machine, ExcuseCommand command, CancellationToken stop) =>
        SendAsync<object?>(HttpMethod.Post, $"plans/{Escape(plan)}/members/{Escape(machine)}/excuse", JsonContent.Create(command), stop);

    /// <summary>Lets a machine whose run has ended go again.</summary>
    public Task AgainAsync(string plan, string machine, string reason, CancellationToken stop) =>
        SendAsync<object?>(HttpMethod.Post, $"plans/{Escape(plan)}/members/{Escape(machine)}/again", JsonContent.Create(new Because(reason)), stop);

    /// <summary>The runs, those that need somebody first.</summary>
    public Task<Page<RunRow>> RunsAsync(string? plan, string? standing, int limit, CancellationToken stop) => AllAsync<RunRow>("runs", limit, stop, ("plan", plan), ("standing", standing));

    /// <summary>One run.</summary>
    public Task<RunView> RunAsync(string run, CancellationToken stop) => GetAsync<RunView>($"runs/{Escape(run)}", stop);

    /// <summary>Decides about a run.</summary>
    public Task<RunView> DecideAsync(string run, DecisionCommand command, CancellationToken stop) => SendAsync<RunView>(HttpMethod.Post, $"runs/{Escape(run)}/decisions", JsonContent.Create(command), stop);

    /// <summary>Closes a loose end.</summary>
    public Task<RunView> CloseLooseEndAsync(string run, string looseEnd, string reason, CancellationToken stop) =>
        SendAsync<RunView>(HttpMethod.Post, $"runs/{Escape(run)}/loose-ends/{Escape(looseEnd)}/close", JsonContent.Create(new Because(reason)), stop);

    /// <summary>How the machines of a plan ended or stand.</summary>
    public Task<OutcomesView> OutcomesAsync(string plan, CancellationToken stop) => GetAsync<OutcomesView>($"outcomes/{Escape(plan)}", stop);

    /// <summary>One page of a plan.</summary>
    public Task<OverviewView> OverviewAsync(string plan, CancellationToken stop) => GetAsync<OverviewView>($"overview/{Escape(plan)}", stop);

    /// <summary>The changes as they happen, from now on or after a position.</summary>
    public async IAsyncEnumerable<ChangeView> ChangesAsync(long? after, [EnumeratorCancellation] CancellationToken stop)
    {
        using var request = new HttpRequestMessage(HttpMethod.Get, "events");
        if (after is { } position) request.Headers.Add("Last-Event-ID", $"{position}");
        using var response = await SendAsync(request, stop);
        await using var stream = await response.Content.ReadAsStreamAsync(stop);
        await foreach (var item in SseParser.Create(stream).EnumerateAsync(stop))
        {
            if (item.EventType == "change") yield return JsonSerializer.Deserialize<ChangeView>(item.Data, Json)!;
        }
    }

    /// <inheritdoc />
    public void Dispose() => _http.Dispose();

    private static StreamContent Body(Stream stream, string type) => new(stream) { Headers = { ContentType = new(type) { CharSet = "utf-8" } } };

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
            var part = await GetAsync<Page<T>>(Query(path, [.. values, ("limit", $"{Math.Min(1000, limit - items.Count)}"), ("cursor", cursor)]), stop);
            items.AddRange(part.Items);
            cursor = part.Next;
            if (cursor is null || items.Count >= limit) return new(items, cursor, part.Total);
        }
    }

    private Task<T> GetAsync<T>(string path, CancellationToken stop) => SendAsync<T>(HttpMethod.Get, path, null, stop);

    private async Task<T> SendAsync<T>(HttpMethod method, string path, HttpContent? body, CancellationToken stop)
    {
        using var request = new HttpRequestMessage(method, path) { Content = body };
        using var response = await SendAsync(request, stop);
        return response.StatusCode == HttpStatusCode.NoContent ? default! : (await response.Content.ReadFromJsonAsync<T>(Json, stop))!;
    }

    private async Task<HttpResponseMessage> SendAsync(HttpRequestMessage request, CancellationToken stop)
    {
        HttpResponseMessage response;
        try
        {
            response = await _http.SendAsync(request, HttpCompletionOption.ResponseHeadersRead, stop);
        }
        catch (HttpRequestException error)
        {
            throw new ServiceException(0, "no-service", $"No service answers at {_http.BaseAddress!.GetLeftPart(UriPartial.Authority)} ({error.Message}). Start it, or say where it is with --service URL.", error);
        }

        if (response.IsSuccessStatusCode) return response;
        using (response) throw await ProblemAsync(response, stop);
    }

    private static async Task<ServiceException> ProblemAsync(HttpResponseMessage response, CancellationToken stop)
    {
        var text = await response.Content.ReadAsStringAsync(stop);
        var status = (int)response.StatusCode;
        if (response.Content.Headers.ContentType?.MediaType != "application/problem+json")
            return new(status, "answer", $"The service answered {status} {response.ReasonPhrase}, and not as Grand Stair does. Is it one? ({response.RequestMessage!.RequestUri})");
        using var problem = JsonDocument.Parse(text);
        var root = problem.RootElement;
        var type = root.TryGetProperty("type", out var t) ? t.GetString() ?? "" : "";
        var problems = root.TryGetProperty("problems", out var list) && list.ValueKind == JsonValueKind.Array
            ? list.EnumerateArray().Select(p => $"line {p.GetProperty("line").GetInt32()}{(p.GetProperty("column").GetInt32() is > 0 and var column ? $", column {column}" : "")}: {p.GetProperty("message").GetString()}").ToArray()
            : [];
        return new(status, type.Split(':')[^1], root.TryGetProperty("detail", out var detail) ? detail.GetString() ?? "" : text) { Problems = problems };
    }
}
