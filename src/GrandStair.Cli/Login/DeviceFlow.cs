using System.Text.Json;
using GrandStair.Contracts;

namespace GrandStair.Cli.Login;

/// <summary>Logs a terminal in by a provider: the person goes to a page anywhere and types a code (RFC 8628).</summary>
internal static class DeviceFlow
{
    private static readonly TimeSpan SlowerBy = TimeSpan.FromSeconds(5);

    /// <summary>Logs in.</summary>
    /// <param name="way">How the service says that terminals log in.</param>
    /// <param name="tell">Hears the page's address and the code.</param>
    /// <param name="stop">Ends the wait.</param>
    /// <exception cref="IOException">The provider refuses, or does not answer.</exception>
    public static async Task<Login> RunAsync(TerminalWay way, Action<string, string> tell, CancellationToken stop)
    {
        using var http = new HttpClient();
        var metadata = await MetadataAsync(http, way.Authority, stop);
        if (!metadata.TryGetProperty("device_authorization_endpoint", out var devices))
            throw new IOException($"{way.Authority} does not log terminals in. Use a token: 'gstair login --token'.");
        var (ok, begun) = await PostAsync(
            http,
            devices.GetString()!,
            stop,
            ("client_id", way.Client),
            ("scope", string.Join(' ', way.Scopes.Append("offline_access").Distinct()))
        );
        if (!ok)
            throw new IOException($"{way.Authority} refuses: {Why(begun)}");
        tell(begun.GetProperty("verification_uri").GetString()!, begun.GetProperty("user_code").GetString()!);
        var wait = TimeSpan.FromSeconds(begun.TryGetProperty("interval", out var interval) ? interval.GetInt32() : 5);
        while (true)
        {
            await Task.Delay(wait, stop);
            var (done, answer) = await PostAsync(
                http,
                metadata.GetProperty("token_endpoint").GetString()!,
                stop,
                ("grant_type", "urn:ietf:params:oauth:grant-type:device_code"),
                ("device_code", begun.GetProperty("device_code").GetString()!),
                ("client_id", way.Client)
            );
            if (done)
                return Of(answer, way.Authority, way.Client);
            switch (answer.GetProperty("error").GetString())
            {
                case "authorization_pending":
                    break;
                case "slow_down":
                    wait += SlowerBy;
                    break;
                default:
                    throw new IOException($"{way.Authority} refuses: {Why(answer)}");
            }
        }
    }

    /// <summary>A new token in place of one that has ended.</summary>
    /// <exception cref="IOException">The provider gives none any more.</exception>
    public static async Task<Login> RefreshAsync(Login login, CancellationToken stop)
    {
        using var http = new HttpClient();
        var metadata = await MetadataAsync(http, login.Authority!, stop);
        var (done, answer) = await PostAsync(
            http,
            metadata.GetProperty("token_endpoint").GetString()!,
            stop,
            ("grant_type", "refresh_token"),
            ("refresh_token", login.Refresh!),
            ("client_id", login.Client!)
        );
        return done
            ? Of(answer, login.Authority!, login.Client!)
            : throw new IOException($"Your login has ended ({Why(answer)}). Log in again: 'gstair login'.");
    }

    private static Login Of(JsonElement answer, string authority, string client) =>
        new(
            answer.GetProperty("access_token").GetString()!,
            answer.TryGetProperty("expires_in", out var seconds) ? DateTimeOffset.UtcNow.AddSeconds(seconds.GetInt32()) : null,
            answer.TryGetProperty("refresh_token", out var refresh) ? refresh.GetString() : null,
            authority,
            client
        );

    private static async Task<JsonElement> MetadataAsync(HttpClient http, string authority, CancellationToken stop)
    {
        try
        {
            return JsonDocument
                .Parse(await http.GetStringAsync(new Uri($"{authority.TrimEnd('/')}/.well-known/openid-configuration"), stop))
                .RootElement;
        }
        catch (Exception error) when (error is HttpRequestException or JsonException)
        {
            throw new IOException($"The provider at {authority} does not answer as one: {error.Message}", error);
        }
    }

    private static async Task<(bool Ok, JsonElement Answer)> PostAsync(
        HttpClient http,
        string to,
        CancellationToken stop,
        params (string Name, string Value)[] fields
    )
    {
        try
        {
            using var content = new FormUrlEncodedContent(fields.Select(f => KeyValuePair.Create(f.Name, f.Value)));
            using var response = await http.PostAsync(new Uri(to), content, stop);
            return (response.IsSuccessStatusCode, JsonDocument.Parse(await response.Content.ReadAsStringAsync(stop)).RootElement);
        }
        catch (Exception error) when (error is HttpRequestException or JsonException)
        {
            throw new IOException($"The provider does not answer as one ({to}): {error.Message}", error);
        }
    }

    private static string Why(JsonElement answer) =>
        answer.TryGetProperty("error_description", out var words) ? words.GetString()!
        : answer.TryGetProperty("error", out var name) ? name.GetString()!
        : "it gives no reason";
}
