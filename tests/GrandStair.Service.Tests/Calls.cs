using System.Net;
using System.Text;
using System.Text.Json;
using GrandStair.Testing;
using Xunit;

namespace GrandStair.Service.Tests;

/// <summary>A call of the interface, as the OpenAPI document names it.</summary>
/// <param name="Name">Its name.</param>
/// <param name="Method">The HTTP method.</param>
/// <param name="Path">The path with its parameters in braces.</param>
/// <param name="Roles">The roles that may make it; null where it needs no account.</param>
/// <param name="Takes">The kind of content that it takes.</param>
internal sealed record Call(string Name, string Method, string Path, IReadOnlyList<string>? Roles, string Takes);

/// <summary>Calls a service as somebody.</summary>
internal static class Calls
{
    private static readonly HttpClient Http = new(new HttpClientHandler { UseCookies = false, AllowAutoRedirect = false });

    /// <summary>Every call of the interface, from the service's own document.</summary>
    public static async Task<IReadOnlyList<Call>> AllAsync(ServiceProcess service)
    {
        using var response = await SendAsync(service, "GET", "/api/v1/openapi.json", service.Token);
        using var document = JsonDocument.Parse(await response.Content.ReadAsStringAsync(TestContext.Current.CancellationToken));
        return
        [
            .. document
                .RootElement.GetProperty("paths")
                .EnumerateObject()
                .SelectMany(path =>
                    path.Value.EnumerateObject()
                        .Select(call => new Call(
                            call.Value.GetProperty("operationId").GetString()!,
                            call.Name.ToUpperInvariant(),
                            path.Name,
                            call.Value.TryGetProperty("x-roles", out var roles)
                                ? [.. roles.EnumerateArray().Select(r => r.GetString()!)]
                                : null,
                            call.Value.TryGetProperty("requestBody", out var takes)
                                ? takes.GetProperty("content").EnumerateObject().First().Name
                                : "application/json"
                        ))
                ),
        ];
    }

    /// <summary>Makes a call.</summary>
    public static Task<HttpResponseMessage> SendAsync(
        ServiceProcess service,
        string method,
        string path,
        string? token = null,
        string? body = null,
        params (string Name, string Value)[] headers
    )
    {
        var request = new HttpRequestMessage(new(method), new Uri(service.Url, path));
        if (token is not null)
            request.Headers.Authorization = new("Bearer", token);
        foreach (var (name, value) in headers.Where(h => h.Name != "Content-Type"))
            request.Headers.TryAddWithoutValidation(name, value);
        if (body is not null)
            request.Content = new StringContent(
                body,
                Encoding.UTF8,
                headers.FirstOrDefault(h => h.Name == "Content-Type").Value ?? "application/json"
            );
        return Http.SendAsync(request, HttpCompletionOption.ResponseHeadersRead, TestContext.Current.CancellationToken);
    }

    /// <summary>Makes a call that has to succeed, and returns its answer.</summary>
    public static async Task<JsonElement> JsonAsync(ServiceProcess service, string method, string path, string? token, object? body = null)
    {
        using var response = await SendAsync(
            service,
            method,
            path,
            token,
            body is null ? null : JsonSerializer.Serialize(body, JsonSerializerOptions.Web)
        );
        var text = await response.Content.ReadAsStringAsync(TestContext.Current.CancellationToken);
        Assert.True(response.IsSuccessStatusCode, $"{method} {path}: {(int)response.StatusCode} {text}");
        return response.StatusCode == HttpStatusCode.NoContent ? default : JsonDocument.Parse(text).RootElement;
    }

    /// <summary>Makes an account and a token of it.</summary>
    public static async Task<string> AccountAsync(ServiceProcess service, string name, string[] roles, params string[] sites)
    {
        await JsonAsync(
            service,
            "POST",
            "/api/v1/accounts",
            service.Token,
            new
            {
                name,
                kind = "person",
                roles,
                sites,
                reason = "a test",
            }
        );
        return (
            await JsonAsync(
                service,
                "POST",
                "/api/v1/tokens",
                service.Token,
                new
                {
                    label = "a test",
                    days = 1,
                    account = name,
                }
            )
        ).GetProperty("secret").GetString()!;
    }

    /// <summary>The status of a call and, where it was refused, the problem's name.</summary>
    public static async Task<(int Status, string Problem)> OutcomeAsync(
        ServiceProcess service,
        string method,
        string path,
        string? token = null,
        string? body = null,
        params (string Name, string Value)[] headers
    )
    {
        using var response = await SendAsync(service, method, path, token, body, headers);
        if (response.Content.Headers.ContentType?.MediaType != "application/problem+json")
            return ((int)response.StatusCode, "");
        using var problem = JsonDocument.Parse(await response.Content.ReadAsStringAsync(TestContext.Current.CancellationToken));
        return ((int)response.StatusCode, problem.RootElement.GetProperty("type").GetString()!.Split(':')[^1]);
    }
}
