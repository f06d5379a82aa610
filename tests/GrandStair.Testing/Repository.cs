using System.Diagnostics;
using System.Globalization;
using System.Text;
using GrandStair.Cli;

namespace GrandStair.Testing;

/// <summary>The files of this repository.</summary>
public static class Repository
{
    /// <summary>Its root.</summary>
    public static string Root { get; } = FindRoot();

    /// <summary>A built assembly, in the same configuration as the tests that run.</summary>
    public static string Built(string project, string assembly)
    {
        var configuration = AppContext.BaseDirectory.Contains("/Release/", StringComparison.Ordinal) ? "Release" : "Debug";
        var path = Path.Combine(Root, "src", project, "bin", configuration, "net10.0", $"{assembly}.dll");
        return File.Exists(path) ? path : throw new InvalidOperationException($"{path} is not built; run ./test, which builds it.");
    }

    private static string FindRoot()
    {
        var folder = new DirectoryInfo(AppContext.BaseDirectory);
        while (!File.Exists(Path.Combine(folder.FullName, "GrandStair.slnx")))
            folder = folder.Parent!;
        return folder.FullName;
    }
}

/// <summary>How often a test is repeated by another seed.</summary>
public static class Seeds
{
    /// <summary>How many drawn cases a test tries: the usual number, or as many times that as <c>TEST_EFFORT</c> says.</summary>
    public static int Cases(int usual) => usual * Number("TEST_EFFORT", 1);

    /// <summary>The number in the environment's <c>TEST_SEEDS</c>; where there is none, the usual one.</summary>
    public static int Count(int usual) => Number("TEST_SEEDS", usual);

    private static int Number(string variable, int otherwise) =>
        Environment.GetEnvironmentVariable(variable) is { } asked ? int.Parse(asked, CultureInfo.InvariantCulture) : otherwise;
}

/// <summary>What a command printed and how it ended.</summary>
/// <param name="Exit">The exit status.</param>
/// <param name="Out">The standard output.</param>
/// <param name="Error">The error output.</param>
public sealed record Ran(int Exit, string Out, string Error);

/// <summary>Runs commands.</summary>
public static class Shell
{
    /// <summary>Runs a program to its end.</summary>
    public static async Task<Ran> RunAsync(
        string program,
        IEnumerable<string> arguments,
        string? input = null,
        TimeSpan? limit = null,
        params (string Name, string Value)[] environment
    )
    {
        var start = new ProcessStartInfo(program, arguments)
        {
            RedirectStandardOutput = true,
            RedirectStandardError = true,
            RedirectStandardInput = true,
        };
        foreach (var (name, value) in environment)
            start.Environment[name] = value;
        using var process = Process.Start(start)!;
        using var timeout = new CancellationTokenSource(limit ?? TimeSpan.FromMinutes(3));
        var output = process.StandardOutput.ReadToEndAsync(timeout.Token);
        var error = process.StandardError.ReadToEndAsync(timeout.Token);
        if (input is not null)
            await process.StandardInput.WriteAsync(input);
        process.StandardInput.Close();
        try
        {
            await process.WaitForExitAsync(timeout.Token);
        }
        catch (OperationCanceledException)
        {
            process.Kill(entireProcessTree: true);
            throw new TimeoutException($"{program} {string.Join(' ', arguments)} did not end in time.");
        }

        return new(process.ExitCode, await output, await error);
    }

    /// <summary>Runs the client, in this process, against a service's data folder.</summary>
    public static async Task<Ran> GstairAsync(this ServiceProcess service, params string[] arguments)
    {
        using var bytes = new MemoryStream();
        await using var output = new StreamWriter(bytes) { AutoFlush = true };
        using var error = new StringWriter();
        string[] data = arguments.Contains("--data") || arguments.Contains("--service") ? [] : ["--data", service.Data];
        var exit = await CommandLine.RunAsync([.. data, .. arguments], new(output, bytes, error, TextReader.Null));
        return new(exit, Encoding.UTF8.GetString(bytes.ToArray()), error.ToString());
    }

    /// <summary>Runs the client, as its users do in a process of its own, against a service's data folder.</summary>
    public static Task<Ran> GstairProcessAsync(this ServiceProcess service, params string[] arguments) =>
        RunAsync("dotnet", [Repository.Built("GrandStair.Cli", "gstair"), .. arguments], environment: ("GSTAIR_DATA", service.Data));

    /// <summary>Runs the client, which has to succeed, and returns what it printed.</summary>
    /// <exception cref="InvalidOperationException">It did not.</exception>
    public static async Task<string> OkAsync(this ServiceProcess service, params string[] arguments)
    {
        var ran = await service.GstairAsync(arguments);
        return ran.Exit == 0
            ? ran.Out
            : throw new InvalidOperationException($"gstair {string.Join(' ', arguments)} ended with {ran.Exit}: {ran.Error}{ran.Out}");
    }

    /// <summary>Writes a file into a service's data folder and returns its path.</summary>
    public static string Write(this ServiceProcess service, string text, string name)
    {
        var path = Path.Combine(service.Data, name);
        File.WriteAllText(path, text);
        return path;
    }
}

/// <summary>Waits for what comes about by itself.</summary>
public static class Eventually
{
    /// <summary>Waits until something holds.</summary>
    /// <exception cref="TimeoutException">It did not within the limit.</exception>
    public static async Task TrueAsync(Func<Task<bool>> holds, TimeSpan limit, Func<string> what)
    {
        var begun = Stopwatch.StartNew();
        while (!await holds())
        {
            if (begun.Elapsed > limit)
                throw new TimeoutException($"Within {limit} it did not come about that {what()}");
            await Task.Delay(100);
        }
    }
}
