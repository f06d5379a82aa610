using System.Net;
using System.Net.Http.Json;
using System.Text.Json;
using GrandStair.Testing;
using Xunit;

namespace GrandStair.Service.Tests;

/// <summary>Who may call, and from where.</summary>
public sealed class AccessTests(SmallFleet fleet) : IClassFixture<SmallFleet>
{
    private ServiceProcess Service => fleet.Service;

    [Fact]
    public async Task Every_call_of_the_interface_needs_a_token_or_a_share_link_that_is_known()
    {
        using var http = new HttpClient();
        http.DefaultRequestHeaders.Authorization = new("Bearer", Service.Token);
        var document = JsonDocument
            .Parse(await http.GetStringAsync(Call("openapi.json"), TestContext.Current.CancellationToken))
            .RootElement;
        http.DefaultRequestHeaders.Authorization = null;
        var calls = document
            .GetProperty("paths")
            .EnumerateObject()
            .SelectMany(path => path.Value.EnumerateObject().Select(call => (Path: path.Name, Method: call.Name.ToUpperInvariant())))
            .ToArray();
        Assert.True(calls.Length >= 24, $"{calls.Length} calls");
        foreach (
            var (path, method) in calls.Where(c =>
                c is not ({ Path: "/api/v1/session", Method: "POST" } or { Path: "/api/v1/sign-in-ways" })
            )
        )
        {
            using var request = new HttpRequestMessage(new(method), new Uri(Service.Url, path.Replace('{', 'x').Replace('}', 'x')));
            var isShared = path.StartsWith("/api/v1/shared/", StringComparison.Ordinal);
            if (isShared && method == "POST")
                request.Content = path.EndsWith("/reports", StringComparison.Ordinal)
                    ? JsonContent.Create(new { words = " " })
                    : JsonContent.Create(new { start = DateTimeOffset.UnixEpoch });
            using var response = await http.SendAsync(request, TestContext.Current.CancellationToken);
            Assert.True(
                response.StatusCode == (isShared ? HttpStatusCode.NotFound : HttpStatusCode.Unauthorized),
                $"{method} {path}: {response.StatusCode}"
            );
            Assert.Equal("application/problem+json", response.Content.Headers.ContentType?.MediaType);
        }
    }

    [Theory]
    [InlineData("evil.example", null, HttpStatusCode.MisdirectedRequest)]
    [InlineData(null, "http://evil.example", HttpStatusCode.Forbidden)]
    [InlineData(null, "null", HttpStatusCode.Forbidden)]
    public async Task A_foreign_host_or_origin_is_refused_whatever_the_token(string? host, string? origin, HttpStatusCode status)
    {
        using var response = await SendAsync(HttpMethod.Get, "session", token: true, host, origin);
        Assert.Equal(status, response.StatusCode);
    }

    [Fact]
    public async Task A_session_cookie_alone_changes_nothing_from_another_site()
    {
        var cookie = await SignInAsync();
        Assert.Equal(HttpStatusCode.OK, (await SendAsync(HttpMethod.Get, "session", cookie: cookie)).StatusCode);
        Assert.Equal(HttpStatusCode.Unauthorized, (await SendAsync(HttpMethod.Post, "plans/x/start", cookie: cookie)).StatusCode);
        Assert.Equal(
            HttpStatusCode.Unauthorized,
            (await SendAsync(HttpMethod.Post, "plans/x/start", cookie: cookie, fetchSite: "cross-site")).StatusCode
        );
        Assert.Equal(
            HttpStatusCode.NotFound,
            (await SendAsync(HttpMethod.Post, "plans/x/start", cookie: cookie, fetchSite: "same-origin")).StatusCode
        );
        Assert.Equal(
            HttpStatusCode.NotFound,
            (
                await SendAsync(HttpMethod.Post, "plans/x/start", cookie: cookie, origin: Service.Url.GetLeftPart(UriPartial.Authority))
            ).StatusCode
        );
        Assert.Equal(
            HttpStatusCode.NoContent,
            (await SendAsync(HttpMethod.Delete, "session", cookie: cookie, fetchSite: "same-origin")).StatusCode
        );
        Assert.Equal(HttpStatusCode.Unauthorized, (await SendAsync(HttpMethod.Get, "session", cookie: cookie)).StatusCode);
    }

    [Fact]
    public async Task The_cookie_is_kept_from_scripts_and_other_sites_and_pages_may_load_nothing_foreign()
    {
        using var http = new HttpClient();
        using var signIn = new HttpRequestMessage(HttpMethod.Post, Call("session"))
        {
            Content = new StringContent(JsonSerializer.Serialize(new { token = Service.Token }), null, "application/json"),
        };
        signIn.Headers.Add("Sec-Fetch-Site", "same-origin");
        using var response = await http.SendAsync(signIn, TestContext.Current.CancellationToken);
        var cookie = response.Headers.GetValues("Set-Cookie").Single();
        Assert.Contains("httponly", cookie, StringComparison.Ordinal);
        Assert.Contains("samesite=strict", cookie, StringComparison.Ordinal);
        using var page = await http.GetAsync(Service.Url, TestContext.Current.CancellationToken);
        var policy = page.Headers.GetValues("Content-Security-Policy").Single();
        Assert.StartsWith("default-src 'none'; script-src 'self'; style-src 'self';", policy, StringComparison.Ordinal);
        Assert.Equal("nosniff", page.Headers.GetValues("X-Content-Type-Options").Single());
    }

    [Fact]
    public void The_first_token_is_readable_by_its_owner_only() =>
        Assert.Equal(UnixFileMode.UserRead | UnixFileMode.UserWrite, File.GetUnixFileMode(Path.Combine(Service.Data, "admin.token")));

    [Fact]
    public async Task A_second_service_on_the_same_data_is_refused()
    {
        var ran = await Shell.RunAsync(
            "dotnet",
            [
                Repository.Built("GrandStair.Service", "grandstair"),
                "--data",
                Service.Data,
                "--port",
                "0",
                "--catalogue",
                Path.Combine(Repository.Root, "catalogue"),
            ]
        );
        Assert.Equal(1, ran.Exit);
        Assert.Contains("Another service works on", ran.Error, StringComparison.Ordinal);
    }

    [Fact]
    public async Task The_published_description_of_the_interface_is_the_service_s_own()
    {
        using var response = await SendAsync(HttpMethod.Get, "openapi.json", token: true);
        var own = await response.Content.ReadAsStringAsync(TestContext.Current.CancellationToken);
        var published = await File.ReadAllTextAsync(
            Path.Combine(Repository.Root, "schemas", "openapi.json"),
            TestContext.Current.CancellationToken
        );
        Assert.True(
            own.Trim() == published.Trim(),
            "schemas/openapi.json is not what the service says; write it anew from /api/v1/openapi.json."
        );
    }

    private Uri Call(string path) => new(Service.Url, $"/api/v1/{path}");

    private async Task<string> SignInAsync()
    {
        using var http = new HttpClient();
        using var request = new HttpRequestMessage(HttpMethod.Post, Call("session"))
        {
            Content = new StringContent(JsonSerializer.Serialize(new { token = Service.Token }), null, "application/json"),
        };
        request.Headers.Add("Sec-Fetch-Site", "same-origin");
        using var response = await http.SendAsync(request, TestContext.Current.CancellationToken);
        return response.Headers.GetValues("Set-Cookie").Single().Split(';')[0];
    }

    private async Task<HttpResponseMessage> SendAsync(
        HttpMethod method,
        string path,
        bool token = false,
        string? host = null,
        string? origin = null,
        string? cookie = null,
        string? fetchSite = null
    )
    {
        using var http = new HttpClient(new HttpClientHandler { UseCookies = false });
        using var request = new HttpRequestMessage(method, Call(path));
        if (token)
            request.Headers.Authorization = new("Bearer", Service.Token);
        if (host is not null)
            request.Headers.Host = host;
        if (origin is not null)
            request.Headers.Add("Origin", origin);
        if (cookie is not null)
            request.Headers.Add("Cookie", cookie);
        if (fetchSite is not null)
            request.Headers.Add("Sec-Fetch-Site", fetchSite);
        return await http.SendAsync(request, TestContext.Current.CancellationToken);
    }
}
