using System.Diagnostics;
using System.Globalization;
using System.Net.Http.Headers;
using System.Text;
using System.Text.Json.Nodes;

namespace GrandStair.Testing.Fuzzing;

/// <summary>Somebody who calls, and the marks that no answer to him may hold.</summary>
/// <param name="Name">The account.</param>
/// <param name="Token">Its token; null for nobody.</param>
/// <param name="Hidden">Names of machines and sites that he may not see.</param>
public sealed record FuzzCaller(string Name, string? Token, IReadOnlyList<string> Hidden);

/// <summary>
/// Makes every call that the OpenAPI document names, as every caller, with parameters and bodies made from its schemas and then changed. No
/// answer is a fault of the service, takes longer than two seconds, or holds a name from outside the caller's sites.
/// </summary>
public sealed class ApiFuzz : IDisposable
{
    private static readonly TimeSpan Longest = TimeSpan.FromSeconds(2);

    // What ends the callers' own accounts and tokens, or lasts by its nature, is left to other tests.
    private static readonly string[] LeftOut =
    [
        "EndToken",
        "EndSession",
        "SignOut",
        "EndAccount",
        "ChangeAccount",
        "SetPassword",
        "ChangePassword",
        "WatchChanges",
        "RotateSecrets",
        "SignIn",
        "VerifyAudit",
        "ExportAudit",
    ];

    private readonly Mutator _mutator;
    private readonly Uri _service;
    private readonly IReadOnlyList<FuzzCaller> _callers;
    private readonly IReadOnlyList<string> _names;
    private readonly JsonObject _schemas;
    private readonly (string Method, string Path, JsonObject Operation)[] _calls;
    private readonly HttpClient _http = new(
        new SocketsHttpHandler
        {
            UseCookies = false,
            AllowAutoRedirect = false,
            MaxConnectionsPerServer = 4,
        }
    )
    {
        Timeout = TimeSpan.FromSeconds(30),
    };

    /// <summary>Prepares the calls.</summary>
    /// <param name="service">Where the service listens, on loopback.</param>
    /// <param name="document">Its OpenAPI document.</param>
    /// <param name="callers">Who calls.</param>
    /// <param name="names">Names that mean something there: machines, plans, checks, runs.</param>
    /// <param name="seed">What the changes come from.</param>
    public ApiFuzz(Uri service, string document, IReadOnlyList<FuzzCaller> callers, IReadOnlyList<string> names, int seed)
    {
        if (!service.IsLoopback)
            throw new ArgumentException("Only a service on loopback is tried.", nameof(service));
        (_service, _callers, _names, _mutator) = (service, callers, names, new(seed));
        var root = JsonNode.Parse(document)!.AsObject();
        _schemas = root["components"]!["schemas"]!.AsObject();
        _calls =
        [
            .. root["paths"]!
                .AsObject()
                .SelectMany(p => p.Value!.AsObject().Select(m => (m.Key.ToUpperInvariant(), p.Key, m.Value!.AsObject())))
                .Where(c => !LeftOut.Contains((string?)c.Item3["operationId"])),
        ];
    }

    /// <summary>How many answers of each status there were.</summary>
    public SortedDictionary<int, int> Statuses { get; } = [];

    /// <summary>The longest time that an answer took.</summary>
    public TimeSpan Slowest { get; private set; }

    /// <summary>Makes calls until there were enough or the time is over.</summary>
    /// <returns>What went wrong; empty where nothing did.</returns>
    public async Task<IReadOnlyList<string>> RunAsync(long inputs, TimeSpan time, CancellationToken stop)
    {
        var wrong = new List<string>();
        var begun = Stopwatch.StartNew();
        for (long i = 0; i < inputs && begun.Elapsed < time && wrong.Count < 10; i++)
        {
            var (method, path, operation) = _calls[i < _calls.Length ? i : _mutator.Next(_calls.Length)];
            var caller = _mutator.Of(_callers);
            using var request = Make(method, path, operation, caller);
            var shown =
                $"{caller.Name}: {method} {request.RequestUri} "
                + $"{(request.Content is null ? "" : await request.Content.ReadAsStringAsync(stop))}";
            if (shown.Length > 2000)
                shown = shown[..2000];
            var one = Stopwatch.GetTimestamp();
            try
            {
                using var response = await _http.SendAsync(request, stop);
                var answer = await response.Content.ReadAsStringAsync(stop);
                var status = (int)response.StatusCode;
                Statuses[status] = Statuses.GetValueOrDefault(status) + 1;
                // 502 is a machine that does not answer, which the service tells of.
                if (status is >= 500 and not 502)
                    wrong.Add($"{status}: {shown}\n{answer}");
                if (caller.Hidden.FirstOrDefault(h => answer.Contains(h, StringComparison.OrdinalIgnoreCase)) is { } hidden)
                    wrong.Add($"'{hidden}' was shown to {shown}\n{answer[..Math.Min(answer.Length, 2000)]}");
            }
            catch (Exception error) when (error is HttpRequestException or TaskCanceledException && !stop.IsCancellationRequested)
            {
                wrong.Add($"no answer ({error.Message}): {shown}");
            }

            var took = Stopwatch.GetElapsedTime(one);
            if (took > Slowest)
                Slowest = took;
            if (took > Longest)
                wrong.Add($"took {took}: {shown}");
        }

        return wrong;
    }

    /// <inheritdoc />
    public void Dispose() => _http.Dispose();

    private HttpRequestMessage Make(string method, string path, JsonObject operation, FuzzCaller caller)
    {
        var query = new StringBuilder();
        foreach (var parameter in operation["parameters"]?.AsArray() ?? [])
        {
            var name = (string)parameter!["name"]!;
            var value = Value(parameter["schema"]!.AsObject(), name);
            if ((string?)parameter["in"] == "path")
                path = path.Replace($"{{{name}}}", Uri.EscapeDataString(value.Length == 0 ? "x" : value), StringComparison.Ordinal);
            else if (_mutator.Next(3) == 0)
                query.Append($"{(query.Length == 0 ? '?' : '&')}{name}={Uri.EscapeDataString(value)}");
        }

        var request = new HttpRequestMessage(new(method), new Uri(_service, path + query));
        if (caller.Token is not null)
            request.Headers.Authorization = new("Bearer", caller.Token);
        if (operation["requestBody"]?["content"]?.AsObject() is { } content)
        {
            var (type, schema) = (content.First().Key, content.First().Value?["schema"]?.AsObject());
            var body = type == "application/json" && schema is not null ? Body(schema, 0)?.ToJsonString() ?? "null" : SampleOf(type);
            if (_mutator.Next(2) == 0)
                body = _mutator.Change(body);
            request.Content = new StringContent(body, Encoding.UTF8);
            request.Content.Headers.ContentType = MediaTypeHeaderValue.Parse(
                type.StartsWith("multipart", StringComparison.Ordinal) ? "text/csv" : type
            );
        }

        return request;
    }

    private static string SampleOf(string type) =>
        type switch
        {
            "application/yaml" =>
                "plan: fuzzed\ntarget: { product: Brae Desktop, release: \"7\" }\nscope: os.version < 7\nmethods: [image-in-place]\n"
                    + "waves: [{ name: All }]\nwindows: [{ zone: Europe/London, weekly: [\"Mon-Sun 00:00-00:00\"] }]\nlimits: { all: 2 }\n"
                    + "advance: { verified: 100 %, failures: 0, soak: 1 d }\n",
            "text/calendar" => "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nBEGIN:VEVENT\r\nUID:1\r\nDTSTART:20270111T080000Z\r\nDURATION:PT1H\r\n"
                + "RRULE:FREQ=WEEKLY\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n",
            _ => "name,site,connection,os.version,seen\nfuzzed-1,Westhaven,simulated,6.4,2027-01-11T08:00:00Z\n",
        };

    /// <summary>A value for a parameter: one that means something, or anything.</summary>
    private string Value(JsonObject schema, string name)
    {
        if (_mutator.Next(5) == 0)
            return _mutator.Any();
        if (name is "filter" or "scope")
            return _mutator.Change("site = Westhaven and os.version < 7");
        return TypeOf(schema) switch
        {
            "integer" => _mutator.Of(["1", "0", "-1", "100", "2147483647", "9223372036854775807"]),
            "boolean" => _mutator.Of(["true", "false"]),
            _ => (string?)schema["format"] == "date-time"
                ? _mutator.Of(["2027-01-11T08:00:00Z", "0001-01-01T00:00:00Z", "9999-12-31T23:59:59Z"])
                : _mutator.Of(_names),
        };
    }

    private JsonNode? Body(JsonObject schema, int depth)
    {
        if ((string?)schema["$ref"] is { } reference)
            return Body(_schemas[reference[(reference.LastIndexOf('/') + 1)..]]!.AsObject(), depth);
        if ((schema["oneOf"] ?? schema["anyOf"])?.AsArray() is { } options)
            return Body(_mutator.Of(options.ToArray())!.AsObject(), depth);
        if (_mutator.Next(12) == 0)
            return JsonValue.Create(_mutator.Any());
        switch (TypeOf(schema))
        {
            case "object":
                var made = new JsonObject();
                foreach (var (name, property) in schema["properties"]?.AsObject() ?? [])
                    if (_mutator.Next(8) > 0)
                        made[name] = depth > 4 ? null : Body(property!.AsObject(), depth + 1);
                return made;
            case "array":
                return new JsonArray([.. Enumerable.Range(0, _mutator.Next(3)).Select(_ => Body(schema["items"]!.AsObject(), depth + 1))]);
            case "null":
                return null;
            default:
                var text = Value(schema, "");
                return TypeOf(schema) is "integer" or "number"
                    && long.TryParse(text, NumberStyles.AllowLeadingSign, CultureInfo.InvariantCulture, out var number)
                        ? JsonValue.Create(number)
                    : TypeOf(schema) == "boolean" ? JsonValue.Create(text == "true")
                    : JsonValue.Create(text);
        }
    }

    private static string TypeOf(JsonObject schema) =>
        schema["type"] switch
        {
            JsonArray several => several.Select(t => (string?)t).FirstOrDefault(t => t != "null") ?? "null",
            JsonValue one => (string)one!,
            _ => schema.ContainsKey("properties") ? "object" : "string",
        };
}
