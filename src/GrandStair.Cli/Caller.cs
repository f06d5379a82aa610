using System.CommandLine;
using System.Text.Encodings.Web;
using System.Text.Json;
using GrandStair.Cli.Login;
using GrandStair.Client;
using GrandStair.Files;

namespace GrandStair.Cli;

/// <summary>What the exit status says.</summary>
internal static class ExitStatus
{
    public const int Done = 0;
    public const int Unexpected = 1;
    public const int NotACommand = 2;
    public const int NotPossible = 3;
    public const int NotFound = 4;
    public const int NotAllowed = 5;
    public const int NoService = 6;
    public const int MachineAway = 7;
    public const int NotAvailable = 8;
    public const int LinesLeftOut = 9;

    /// <summary>As shells say that a program ended by Ctrl+C.</summary>
    public const int Interrupted = 130;
}

/// <summary>Finds the service and the token, calls, prints, and reports errors.</summary>
internal static class Caller
{
    // A token that ends within this time is renewed before it is used.
    private static readonly TimeSpan Spare = TimeSpan.FromSeconds(30);
    public static readonly Option<bool> JsonOption = new("--json")
    {
        Description = "Print the service's response as JSON, for programs.",
        Recursive = true,
    };
    private static readonly Option<string?> ServiceOption = new("--service")
    {
        Description = "URL of the service (default: GSTAIR_SERVICE, or service.url in the data folder).",
        Recursive = true,
    };
    private static readonly Option<string?> DataOption = new("--data")
    {
        Description =
            "Data folder of the service, which contains admin.token (default: GSTAIR_DATA, or ./data). GSTAIR_TOKEN takes a token "
            + "instead; 'gstair login' needs neither.",
        Recursive = true,
    };
    private static readonly JsonSerializerOptions Indented = new(JsonSerializerDefaults.Web)
    {
        WriteIndented = true,
        Encoder = JavaScriptEncoder.UnsafeRelaxedJsonEscaping,
    };

    public static void AddTo(RootCommand root)
    {
        root.Options.Add(ServiceOption);
        root.Options.Add(DataOption);
        root.Options.Add(JsonOption);
    }

    /// <summary>The words of the command that was parsed, for an error.</summary>
    public static IEnumerable<string> Path(ParseResult parsed)
    {
        var words = new Stack<string>();
        for (var at = parsed.CommandResult; at is { Command: not RootCommand }; at = at.Parent as System.CommandLine.Parsing.CommandResult)
            words.Push(at.Command.Name);
        return words;
    }

    /// <summary>Lets a command call the service and print.</summary>
    public static void Calls(this Command command, Func<ParseResult, GrandStairClient, Screen, CancellationToken, Task<int>> work) =>
        command.SetAction(
            async (parsed, stop) =>
            {
                var screen = new Screen();
                return await ProtectAsync(parsed, async () =>
                {
                    using var client = await ConnectAsync(parsed, stop);
                    return await work(parsed, client, screen, stop);
                });
            }
        );

    /// <summary>Lets a command ask the service one thing and print it.</summary>
    public static void Asks<T>(
        this Command command,
        Func<ParseResult, GrandStairClient, CancellationToken, Task<T>> ask,
        Action<T, Screen> show
    ) =>
        command.Calls(
            async (parsed, client, screen, stop) =>
            {
                var answer = await ask(parsed, client, stop);
                if (!PrintedAsJson(parsed, answer))
                    show(answer, screen);
                return ExitStatus.Done;
            }
        );

    /// <summary>Prints an answer as JSON where that was asked for.</summary>
    public static bool PrintedAsJson<T>(ParseResult parsed, T answer)
    {
        if (!parsed.GetValue(JsonOption))
            return false;
        Terminal.Json(JsonSerializer.Serialize(answer, Indented));
        return true;
    }

    /// <summary>Writes what was fetched to a file, or to standard output.</summary>
    public static async Task WriteAsync(Stream content, string? file, Screen screen, CancellationToken stop)
    {
        if (file is null)
        {
            await Terminal.WriteAsync(content, stop);
            return;
        }

        await using (var to = File.Create(file))
            await content.CopyToAsync(to, stop);
        screen.Say($"Wrote **{file}**, {new FileInfo(file).Length} bytes");
    }

    /// <summary>
    /// Does something and turns what goes wrong into words on the error output, or into JSON where that was asked for, and an exit status.
    /// </summary>
    public static async Task<int> ProtectAsync(ParseResult parsed, Func<Task<int>> work)
    {
        try
        {
            return await work();
        }
        catch (OperationCanceledException)
        {
            // Ctrl+C needs no message.
            return ExitStatus.Interrupted;
        }
        catch (ServiceException error)
        {
            var status = error.Status switch
            {
                0 => ExitStatus.NoService,
                401 or 403 or 421 => ExitStatus.NotAllowed,
                404 => ExitStatus.NotFound,
                502 => ExitStatus.MachineAway,
                503 or 507 => ExitStatus.NotAvailable,
                400 or 409 or 422 => ExitStatus.NotPossible,
                _ => ExitStatus.Unexpected,
            };
            return await FailAsync(parsed, error.Problems.Count > 0 ? "the file was rejected:" : error.Message, error.Problems, status);
        }
        catch (FileException error)
        {
            return await FailAsync(parsed, "the file was rejected:", [.. error.Problems.Select(p => p.ToString())], ExitStatus.NotPossible);
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            return await FailAsync(parsed, error.Message, [], ExitStatus.NotPossible);
        }
    }

    private static async Task<int> FailAsync(ParseResult parsed, string message, IReadOnlyList<string> problems, int status)
    {
        if (
            PrintedAsJson(
                parsed,
                new
                {
                    error = new
                    {
                        message = message.TrimEnd(':'),
                        problems,
                        exitStatus = status,
                    },
                }
            )
        )
            return status;
        await Terminal.ErrorAsync($"gstair: {message}");
        foreach (var problem in problems)
            await Terminal.ErrorAsync($"  {problem}");
        return status;
    }

    /// <summary>A client for the service and account that a command line names.</summary>
    /// <exception cref="IOException">There is no token, or the address is none.</exception>
    public static async Task<GrandStairClient> ConnectAsync(ParseResult parsed, CancellationToken stop)
    {
        var service = ServiceOf(parsed);
        if (Environment.GetEnvironmentVariable("GSTAIR_TOKEN") is { } given)
        {
            // A folder that merely lies here, as in somebody else's checkout, must not say where a token is sent.
            return IsServiceNamed(parsed) || Read(System.IO.Path.Combine("data", "service.url")) is null
                ? new(service, given)
                : throw new IOException(
                    $"GSTAIR_TOKEN is not sent to {service}, which the file data/service.url here names. Say which service is meant "
                        + $"with --service URL or GSTAIR_SERVICE."
                );
        }

        var data = DataOf(parsed);
        // A data folder that was named is meant; one that merely lies here comes after a login.
        if (data is not null && Read(System.IO.Path.Combine(data, "admin.token")) is { } named)
            return new(service, named);
        if (data is null && LoginStore.All().TryGetValue(LoginStore.Name(service), out var login))
        {
            if (login.Refresh is not null && login.Ends < DateTimeOffset.UtcNow + Spare)
            {
                login = await DeviceFlow.RefreshAsync(login, stop);
                LoginStore.Put(service, login);
            }

            return new(service, login.Token);
        }

        var here = data ?? "data";
        return Read(System.IO.Path.Combine(here, "admin.token")) is { } token
            ? new(service, token)
            : throw new IOException(
                $"There is no token: {System.IO.Path.GetFullPath(here)} has no admin.token that can be read, and you are not logged "
                    + $"in. Log in with 'gstair login', say where the service's data is with --data FOLDER, or give the token in "
                    + $"GSTAIR_TOKEN."
            );
    }

    /// <summary>The address of the service that a command line means.</summary>
    /// <exception cref="IOException">It is none.</exception>
    public static Uri ServiceOf(ParseResult parsed)
    {
        var service = parsed.GetValue(ServiceOption)
            ?? Environment.GetEnvironmentVariable("GSTAIR_SERVICE")
            ?? Read(System.IO.Path.Combine(DataOf(parsed) ?? "data", "service.url"))
            ?? LoginStore.All().Keys.FirstOrDefault()
            ?? "http://127.0.0.1:7420";
        return Uri.TryCreate(service, UriKind.Absolute, out var address) && address.Scheme is "http" or "https"
            ? address!
            : throw new IOException($"'{service}' is no address of a service; expected one such as http://127.0.0.1:7420.");
    }

    /// <summary>Whether the command line or the environment says which service, or whose data folder, is meant.</summary>
    private static bool IsServiceNamed(ParseResult parsed) =>
        (parsed.GetValue(ServiceOption) ?? Environment.GetEnvironmentVariable("GSTAIR_SERVICE") ?? DataOf(parsed)) is not null;

    private static string? DataOf(ParseResult parsed) => parsed.GetValue(DataOption) ?? Environment.GetEnvironmentVariable("GSTAIR_DATA");

    private static string? Read(string file)
    {
        try
        {
            return File.ReadAllText(file).Trim();
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            return null;
        }
    }
}
