using System.Net;
using System.Security.Cryptography;
using System.Text;
using System.Text.Json;
using GrandStair.Testing;
using Xunit;

namespace GrandStair.Service.Tests.SignIn;

/// <summary>Signing in by a provider: the console, programs, and terminals without a browser.</summary>
public sealed class ProviderTests : IAsyncLifetime
{
    private readonly string _home = Directory.CreateTempSubdirectory("grandstair-login-").FullName;
    private ServiceProcess _service = null!;
    private TestProvider _provider = null!;

    private static CancellationToken Stop => TestContext.Current.CancellationToken;

    public async ValueTask InitializeAsync()
    {
        var data = Directory.CreateTempSubdirectory("grandstair-test-").FullName;
        var port = ServiceProcess.FreePort();
        _provider = await TestProvider.StartAsync(new($"http://127.0.0.1:{port}"), TimeSpan.FromSeconds(12));
        var file = Path.Combine(_home, "provider.yaml");
        await File.WriteAllTextAsync(file, TestProvider.File(_provider.Url));
        _service = await ServiceProcess.StartAsync(data, port, ["--provider", file]);
        await _service.Client.PutSecretAsync("staff-client", TestProvider.Secret, Stop);
        var csv = Path.Combine(data, "fleet.csv");
        await File.WriteAllTextAsync(csv, "name,site,connection\ndesk-1,Westhaven,simulated\ndesk-2,Eastness,simulated\n");
        Assert.Equal(0, (await _service.GstairAsync("fleet", "import", csv)).Exit);
    }

    public async ValueTask DisposeAsync()
    {
        await _service.DisposeAsync();
        await _provider.DisposeAsync();
        Directory.Delete(_home, recursive: true);
    }

    [Fact]
    public async Task The_console_signs_in_by_the_provider_and_a_code_works_once_and_only_for_the_browser_that_asked()
    {
        var browser = new Browser();
        var toProvider = await browser.GoAsync(new(_service.Url, "/provider/sign-in"));
        Assert.Contains("code_challenge_method=S256", toProvider.ToString(), StringComparison.Ordinal);
        var back = await browser.GoAsync(toProvider);
        Assert.StartsWith(new Uri(_service.Url, "/provider/signed-in").ToString(), back.ToString(), StringComparison.Ordinal);

        // Somebody else's browser is sent to the same place: it never asked.
        Assert.EndsWith("/sign-in?provider=failed", (await new Browser().GoAsync(back)).ToString(), StringComparison.Ordinal);
        // A code of another sign-in does not fit this one.
        var other = new Browser();
        var others = await other.GoAsync(await other.GoAsync(new(_service.Url, "/provider/sign-in")));
        Assert.EndsWith(
            "provider=failed",
            (
                await browser.GoAsync(new(back.ToString().Replace(Query(back, "code"), Query(others, "code"), StringComparison.Ordinal)))
            ).ToString(),
            StringComparison.Ordinal
        );

        browser = new();
        back = await browser.GoAsync(await browser.GoAsync(new(_service.Url, "/provider/sign-in")));
        Assert.EndsWith("/", (await browser.GoAsync(back)).AbsolutePath, StringComparison.Ordinal);
        using var session = JsonDocument.Parse(await browser.ReadAsync(new(_service.Url, "/api/v1/session")));
        Assert.Equal("staff/planner", session.RootElement.GetProperty("actor").GetString());
        Assert.Equal(["reader", "planner"], session.RootElement.GetProperty("roles").EnumerateArray().Select(r => r.GetString()));
        Assert.EndsWith("provider=failed", (await browser.GoAsync(back)).ToString(), StringComparison.Ordinal);

        // What the provider says next counts next; who has no group has no role, and a site that is named '*' is none.
        _provider.Person = ("planner", ["fleet-admins"], ["Westhaven", "*"]);
        browser = new();
        await browser.GoAsync(await browser.GoAsync(await browser.GoAsync(new(_service.Url, "/provider/sign-in"))));
        using var again = JsonDocument.Parse(await browser.ReadAsync(new(_service.Url, "/api/v1/session")));
        Assert.Equal(
            ("reader, admin", "Westhaven"),
            (
                string.Join(", ", again.RootElement.GetProperty("roles").EnumerateArray()),
                string.Join(", ", again.RootElement.GetProperty("sites").EnumerateArray())
            )
        );

        // Nobody becomes one of our own accounts by his name; and who was ended here stays out.
        _provider.Person = ("admin", [], []);
        browser = new();
        await browser.GoAsync(await browser.GoAsync(await browser.GoAsync(new(_service.Url, "/provider/sign-in"))));
        Assert.Contains("has no role", await browser.ReadAsync(new(_service.Url, "/api/v1/machines")), StringComparison.Ordinal);
        await _service.Client.EndAccountAsync("staff/admin", "left", Stop);
        Assert.EndsWith(
            "provider=refused",
            (await browser.GoAsync(await browser.GoAsync(await browser.GoAsync(new(_service.Url, "/provider/sign-in"))))).ToString(),
            StringComparison.Ordinal
        );
    }

    [Fact]
    public async Task A_program_calls_with_the_provider_s_token_and_no_forged_one_is_taken()
    {
        var token = await _provider.ProgramTokenAsync();
        var session = await Calls.JsonAsync(_service, "GET", "/api/v1/session", token);
        Assert.Equal(("staff/wall-screen", "program"), (session.GetProperty("actor").GetString(), session.GetProperty("kind").GetString()));
        Assert.Equal(
            "desk-1",
            (await Calls.JsonAsync(_service, "GET", "/api/v1/machines", token))
                .GetProperty("items")
                .EnumerateArray()
                .Single()
                .GetProperty("name")
                .GetString()
        );

        using var http = new HttpClient();
        using var keys = JsonDocument.Parse(await http.GetStringAsync(new Uri(_provider.Url, ".well-known/jwks"), Stop));
        var key = keys.RootElement.GetProperty("keys")[0];
        var payload = JsonSerializer.Deserialize<Dictionary<string, object>>(Text(token.Split('.')[1]))!;
        using var own = RSA.Create(2048);
        string Signed(string header, string body) =>
            $"{Part(header)}.{Part(body)}" is var signed
                ? $"{signed}.{Base64(own.SignData(Encoding.ASCII.GetBytes(signed), HashAlgorithmName.SHA256, RSASignaturePadding.Pkcs1))}"
                : "";
        string Hashed(byte[] secret) =>
            $"{Part($$"""{"alg":"HS256","typ":"at+jwt","kid":"{{key.GetProperty("kid").GetString()}}"}""")}.{token.Split('.')[1]}"
                is var signed
                ? $"{signed}.{Base64(HMACSHA256.HashData(secret, Encoding.ASCII.GetBytes(signed)))}"
                : "";
        var header = Text(token.Split('.')[0]);
        var forged = new Dictionary<string, string>
        {
            ["no signature, and says so"] = $"{Part("""{"alg":"none","typ":"at+jwt"}""")}.{token.Split('.')[1]}.",
            ["no signature"] = $"{token.Split('.')[0]}.{token.Split('.')[1]}.",
            ["signed with the public modulus as a shared secret"] = Hashed(FromBase64(key.GetProperty("n").GetString()!)),
            ["signed with the published key as a shared secret"] = Hashed(Encoding.UTF8.GetBytes(key.GetRawText())),
            ["signed by another key under the same name"] = Signed(header, Text(token.Split('.')[1])),
            ["signed by a key that it brings along"] = Signed(
                $$"""{"jwk":{"kty":"RSA","n":"{{Base64(own.ExportParameters(false).Modulus!)}}","e":"AQAB"},"alg":"RS256","typ":"at+jwt"}""",
                Text(token.Split('.')[1])
            ),
            ["a key to be fetched from elsewhere"] = Signed(
                """{"alg":"RS256","typ":"at+jwt","jku":"http://127.0.0.1:9/keys"}""",
                Text(token.Split('.')[1])
            ),
            ["another body under the signature"] =
                $"{token.Split('.')[0]}."
                + $"{Part(JsonSerializer.Serialize(new Dictionary<string, object>(payload) { ["terminals"] = "everywhere" }))}."
                + $"{token.Split('.')[2]}",
            ["an ID token in its place"] = Signed(
                $$"""{"alg":"RS256","typ":"JWT","kid":"{{key.GetProperty("kid").GetString()}}"}""",
                Text(token.Split('.')[1])
            ),
            ["no token at all"] = "a.b.c",
        };
        foreach (var (what, attempt) in forged)
            Assert.True((await Calls.OutcomeAsync(_service, "GET", "/api/v1/session", attempt)).Status == 401, what);

        // One that is for somebody else, from the same provider with the right signature.
        _provider.Audiences = ["another-service"];
        var elsewhere = await _provider.ProgramTokenAsync();
        Assert.Equal(401, (await Calls.OutcomeAsync(_service, "GET", "/api/v1/session", elsewhere)).Status);
        _provider.Audiences = [TestProvider.Audience];
        Assert.Equal(200, (await Calls.OutcomeAsync(_service, "GET", "/api/v1/session", await _provider.ProgramTokenAsync())).Status);
        // Half a minute after its end it is over.
        await Eventually.TrueAsync(
            async () => (await Calls.OutcomeAsync(_service, "GET", "/api/v1/session", token)).Status == 401,
            TimeSpan.FromSeconds(130),
            () => "an ended token is refused"
        );
    }

    [Fact]
    public async Task A_terminal_without_a_browser_logs_in_with_a_code_and_its_login_is_renewed()
    {
        var login = GstairAsync("login");
        var code = await _provider.NextCodeAsync(TimeSpan.FromSeconds(60));
        using (var http = new HttpClient())
        {
            // What somebody does on another computer: he goes to the page, and types the code.
            using var form = new FormUrlEncodedContent(new Dictionary<string, string> { ["user_code"] = code });
            using var typed = await http.PostAsync(new Uri(_provider.Url, "verify"), form, Stop);
            Assert.True(typed.IsSuccessStatusCode, await typed.Content.ReadAsStringAsync(Stop));
        }

        var ran = await login;
        Assert.True(ran.Exit == 0, ran.Error);
        Assert.Contains("You are staff/planner", ran.Out, StringComparison.Ordinal);
        Assert.Contains(code, ran.Out, StringComparison.Ordinal);
        var file = Path.Combine(_home, "gstair", "logins.json");
        Assert.Equal(UnixFileMode.UserRead | UnixFileMode.UserWrite, File.GetUnixFileMode(file));
        var first = await File.ReadAllTextAsync(file, Stop);
        await Task.Delay(TimeSpan.FromSeconds(1.5), Stop);
        Assert.Contains("2 machines", (await GstairAsync("fleet", "list")).Out, StringComparison.Ordinal);
        Assert.NotEqual(first, await File.ReadAllTextAsync(file, Stop));

        File.SetUnixFileMode(file, UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.OtherRead);
        Assert.Contains("can be read by others than you", (await GstairAsync("fleet", "list")).Error, StringComparison.Ordinal);
        File.SetUnixFileMode(file, UnixFileMode.UserRead | UnixFileMode.UserWrite);
        Assert.Equal(0, (await GstairAsync("logout")).Exit);
        Assert.Contains("you are not logged in", (await GstairAsync("fleet", "list")).Error, StringComparison.Ordinal);

        var token = (await _service.Client.CreateTokenAsync(new("a terminal", 1, Roles: ["reader"]), Stop)).Secret;
        Assert.Contains("You are admin", (await GstairAsync(["login", "--token"], token + "\n")).Out, StringComparison.Ordinal);
        Assert.Contains("2 machines", (await GstairAsync("fleet", "list")).Out, StringComparison.Ordinal);
        var refused = await GstairAsync("account", "list");
        Assert.Equal(5, refused.Exit);
        Assert.Contains("needs the role auditor or admin", refused.Error, StringComparison.Ordinal);
    }

    private static string Query(Uri uri, string name) =>
        uri.Query.TrimStart('?').Split('&').Select(p => p.Split('=', 2)).First(p => p[0] == name)[1];

    private static string Part(string json) => Base64(Encoding.UTF8.GetBytes(json));

    private static string Base64(byte[] bytes) => Convert.ToBase64String(bytes).Replace('+', '-').Replace('/', '_').TrimEnd('=');

    private static byte[] FromBase64(string text) =>
        Convert.FromBase64String(text.Replace('-', '+').Replace('_', '/') + new string('=', (4 - (text.Length % 4)) % 4));

    private static string Text(string part) => Encoding.UTF8.GetString(FromBase64(part));

    private Task<Ran> GstairAsync(params string[] arguments) => GstairAsync(arguments, "");

    private Task<Ran> GstairAsync(string[] arguments, string input) =>
        Shell.RunAsync(
            "dotnet",
            [Repository.Built("GrandStair.Cli", "gstair"), .. arguments],
            input,
            environment: [("XDG_CONFIG_HOME", _home), ("GSTAIR_SERVICE", _service.Url.ToString())]
        );

    /// <summary>A browser, as far as signing in needs one: it keeps cookies and follows where it is told.</summary>
    private sealed class Browser
    {
        private static readonly HttpClient Http = new(new HttpClientHandler { AllowAutoRedirect = false, UseCookies = false });
        private readonly CookieContainer _cookies = new();

        /// <summary>Opens a page, and says where it leads.</summary>
        public async Task<Uri> GoAsync(Uri to)
        {
            using var response = await GetAsync(to);
            return response.Headers.Location is { } next
                ? new(to, next)
                : throw new InvalidOperationException($"{to}: {(int)response.StatusCode} {await response.Content.ReadAsStringAsync(Stop)}");
        }

        /// <summary>Reads a page.</summary>
        public async Task<string> ReadAsync(Uri page)
        {
            using var response = await GetAsync(page);
            return await response.Content.ReadAsStringAsync(Stop);
        }

        private async Task<HttpResponseMessage> GetAsync(Uri to)
        {
            using var request = new HttpRequestMessage(HttpMethod.Get, to);
            if (_cookies.GetCookieHeader(to) is { Length: > 0 } cookie)
                request.Headers.Add("Cookie", cookie);
            var response = await Http.SendAsync(request, Stop);
            if (response.Headers.TryGetValues("Set-Cookie", out var cookies))
                foreach (var given in cookies)
                    _cookies.SetCookies(to, given);
            return response;
        }
    }
}
