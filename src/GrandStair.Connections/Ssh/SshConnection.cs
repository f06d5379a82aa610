using System.Collections.Concurrent;
using System.Globalization;
using System.Security.Cryptography;
using System.Text;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Readings;
using GrandStair.Core.Runs;
using Renci.SshNet;
using Renci.SshNet.Common;
using Renci.SshNet.Messages.Transport;

namespace GrandStair.Connections.Ssh;

/// <summary>A private key that logs in.</summary>
/// <param name="From">Where it is from, for errors.</param>
/// <param name="Pem">The key.</param>
/// <param name="Passphrase">What it is encrypted with; null where it is not.</param>
public sealed record SshKey(string From, string Pem, string? Passphrase);

/// <summary>
/// What the connection has to be told about machines: with which key to log in, and whether a host key that nobody pinned may be trusted.
/// </summary>
public interface ISshAccess
{
    /// <summary>The key of that name, or the service's own.</summary>
    /// <exception cref="ConnectionException">There is none.</exception>
    Task<SshKey> KeyAsync(string? name, CancellationToken stop);

    /// <summary>Whether the site of a machine without a pinned host key says that the first one it shows is trusted.</summary>
    Task<bool> TrustsFirstUseAsync(Machine machine, CancellationToken stop);

    /// <summary>Pins the host key that a machine showed first.</summary>
    Task PinAsync(Machine machine, string hostKey, CancellationToken stop);
}

/// <summary>How the service logs in to machines.</summary>
/// <param name="Access">What it is told about them.</param>
/// <param name="Installation">The id of this installation: the launcher keeps the orders of different ones apart.</param>
/// <param name="PostQuantum">Whether the post-quantum key exchange is offered; without it a login costs a tenth of the processor
/// time.</param>
public sealed record SshOptions(ISshAccess Access, string Installation, bool PostQuantum = true);

/// <summary>
/// Reaches machines by SSH. One connection is kept per machine in use; host keys are pinned, and without a pinned key nothing is sent.
/// </summary>
public sealed class SshConnection(SshOptions options) : IConnection, IDisposable
{
    private static readonly TimeSpan ConnectTimeout = TimeSpan.FromSeconds(15);
    private static readonly TimeSpan CommandTimeout = TimeSpan.FromSeconds(60);
    private static readonly TimeSpan ReadTimeout = TimeSpan.FromSeconds(120);
    private static readonly string Launcher = Shipped("launcher.sh");
    private static readonly string FetchMedia = Shipped("fetch-media.sh");
    private static readonly string CleanUp = Shipped("clean-up.sh");
    private static readonly string SaveFiles = Shipped("save-files.sh");
    private static readonly string RestoreFiles = Shipped("restore-files.sh");
    private const string Home = "/var/lib/grandstair";
    private const string MediaFolder = $"{Home}/media";
    private const int NotInstalled = 97;
    private const string NotOurs = "not-ours";
    private const string Incomplete = "incomplete";
    private const int MostRead = 1_000_000;
    private const int MostOutput = 4 << 20;
    private static readonly string LauncherHash = Sha256(Launcher);
    private static readonly string LauncherFile = $"{Home}/launcher-{LauncherHash[..12]}";

    private readonly ConcurrentDictionary<MachineId, Kept> _kept = new();

    /// <inheritdoc />
    public string Kind => "ssh";

    /// <inheritdoc />
    public async Task<IReadOnlyList<ScriptOutput>> ReadAsync(
        Machine machine,
        IReadOnlyList<string> scripts,
        IReadOnlyCollection<string> wanted,
        CancellationToken stop
    )
    {
        ArgumentNullException.ThrowIfNull(machine);
        ArgumentNullException.ThrowIfNull(scripts);
        ArgumentNullException.ThrowIfNull(wanted);
        var outputs = new List<ScriptOutput>();
        foreach (var script in scripts)
        {
            // Keys are words with dots and hyphens, so that they need no more than quotes.
            var payload = Base64($"wanted='{string.Join(' ', wanted)}'\n{script}");
            outputs.Add(
                ReadOutput(
                    await LaunchAsync(
                        machine,
                        $"read {ReadTimeout.TotalSeconds:0} {Sha256(payload)}",
                        payload,
                        ReadTimeout + CommandTimeout,
                        stop
                    )
                )
            );
        }

        return outputs;
    }

    /// <inheritdoc />
    public async Task PostAsync(Machine machine, PostedOrder order, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(machine);
        ArgumentNullException.ThrowIfNull(order);
        var script = order.Kind switch
        {
            StepKind.FetchMedia => FetchMedia,
            StepKind.CleanUp => CleanUp,
            StepKind.SaveFiles => SaveFiles,
            StepKind.RestoreFiles => RestoreFiles,
            _ => order.Script,
        };
        var values = string.Concat(
            order
                .Values.Append(new("media_folder", MediaFolder))
                .Concat(order.Media.Select(m => KeyValuePair.Create($"media_{m.Name}", $"{MediaFolder}/{m.Sha256}/{m.File}")))
                .Select(v => $"{Variable(v.Key)}={v.Value.ReplaceLineEndings(" ")}\n")
        );
        var secrets = string.Concat(order.Secrets.Select(s => $"{Variable(s.Key)}={Base64(s.Value)}\n"));
        // The last line has no break: the launcher takes the hash of what its shell has read, and that drops the last one.
        var payload = $"{(secrets.Length > 0 ? $"secrets {Base64(secrets)}\n" : "")}script {Base64(script)}\nvalues {Base64(values)}";
        var kind = RunMachine.Name(order.Kind);
        var said = (
            await LaunchAsync(machine, $"post {FileName(order.Name)} {order.Epoch} {kind} {Sha256(payload)}", payload, CommandTimeout, stop)
        ).Trim();
        if (said is "begun" or "known")
            return;
        if (said.StartsWith("epoch ", StringComparison.Ordinal))
            throw new ConnectionException(
                "epoch",
                $"{machine.Name} knows a newer claim of run r{order.Name.Run} ({said}); this one (epoch {order.Epoch}) is over."
            );
        throw new ConnectionException(
            "unreachable",
            $"{machine.Name} did not take order {order.Name}: {(said.Length == 0 ? "no answer" : said)}. It is asked again."
        );
    }

    /// <inheritdoc />
    public async Task<OrderStatus> AskAsync(Machine machine, OrderName order, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(machine);
        var said = await LaunchAsync(machine, $"ask {FileName(order)}", "", CommandTimeout, stop);
        string state = "",
            note = "";
        double? share = null;
        TimeSpan? lasted = null;
        var printed = 0L;
        foreach (var line in said.Split('\n', StringSplitOptions.TrimEntries | StringSplitOptions.RemoveEmptyEntries))
        {
            var (word, rest) = line.Split(' ', 2) is [var w, var r] ? (w, r) : (line, "");
            switch (word)
            {
                case "state":
                    state = rest;
                    break;
                case "lasted" when int.TryParse(rest, out var seconds) && seconds >= 0:
                    lasted = TimeSpan.FromSeconds(seconds);
                    break;
                case "printed" when long.TryParse(rest, NumberStyles.None, CultureInfo.InvariantCulture, out var bytes):
                    printed = bytes;
                    break;
                case "progress":
                    (share, note) = Progress(rest);
                    break;
                case "output" when note.Length == 0 || state.StartsWith("ended", StringComparison.Ordinal) || state == "gone":
                    note = Output(rest);
                    break;
                default:
                    break;
            }
        }

        return state.Split(' ') switch
        {
            ["unseen"] => new OrderStatus(OrderState.Unseen, null, null, ""),
            ["running"] => new OrderStatus(OrderState.Running, null, share, note) { Printed = printed },
            ["gone"] => new OrderStatus(OrderState.Gone, null, share, note) { Printed = printed },
            ["ended", var exit] when int.TryParse(exit, out var code) => new OrderStatus(OrderState.Ended, code, 1, note, Lasted: lasted)
            {
                Printed = printed,
            },
            _ => throw new ConnectionException(
                "unreachable",
                $"{machine.Name} gave no clear answer about {order}: '{Texts.Clean(said, 200)}'. It is asked again."
            ),
        };
    }

    /// <inheritdoc />
    public async Task<byte[]> OutputAsync(Machine machine, OrderName order, long from, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(machine);
        var said = await LaunchAsync(machine, $"output {FileName(order)} {from} {OrderStatus.MostOfOutput}", "", CommandTimeout, stop);
        try
        {
            return Convert.FromBase64String(said.Trim());
        }
        catch (FormatException error)
        {
            throw new ConnectionException(
                "unreachable",
                $"{machine.Name} cut off what {order} has printed: '{Texts.Clean(said, 200)}'. It is asked again.",
                error
            );
        }
    }

    /// <inheritdoc />
    public void Dispose()
    {
        foreach (var kept in _kept.Values)
            kept.Dispose();
    }

    /// <summary>
    /// Takes the launcher's last line off a reading script's output; without it, or where it says that something went wrong, the output is
    /// incomplete.
    /// </summary>
    private static ScriptOutput ReadOutput(string said)
    {
        var end = said.LastIndexOf("\nread-ended ", StringComparison.Ordinal);
        if (end < 0 || said[end..].Split(' ', StringSplitOptions.TrimEntries) is not [_, var status, var length] || !said.EndsWith('\n'))
            return new(said, said.Trim() == Incomplete ? "the script did not arrive whole" : "the output ends before the script did");
        var text = said[..end];
        if (!int.TryParse(length, out var bytes) || bytes > MostRead)
            return new(text, $"the script printed more than {MostRead:N0} bytes");
        return status switch
        {
            "0" => new(text),
            "124" => new(text, $"the script did not end within {ReadTimeout.TotalSeconds:0} s"),
            _ => new(text, $"the script ended with status {status}"),
        };
    }

    /// <summary>A name as a shell's variable has it.</summary>
    private static string Variable(string name) => name.ToUpperInvariant().Replace('-', '_').Replace('.', '_');

    private static string Sha256(string text) => Convert.ToHexStringLower(SHA256.HashData(Encoding.UTF8.GetBytes(text)));

    private static string FileName(OrderName order) => order.ToString().Replace('/', '.');

    private static string Base64(string text) => Convert.ToBase64String(Encoding.UTF8.GetBytes(text));

    private static (double?, string) Progress(string line)
    {
        var (number, text) = line.Split(' ', 2) is [var n, var t] ? (n, t) : (line, "");
        return double.TryParse(number.TrimEnd('%'), NumberStyles.Float, CultureInfo.InvariantCulture, out var percent)
            ? (Math.Clamp(percent / 100, 0, 1), Texts.Clean(text, 200))
            : (null, Texts.Clean(line, 200));
    }

    private static string Output(string base64)
    {
        try
        {
            return Texts.Clean(Encoding.UTF8.GetString(Convert.FromBase64String(base64)), 3000);
        }
        catch (FormatException)
        {
            return "";
        }
    }

    private static string Shipped(string script)
    {
        using var stream = typeof(SshConnection).Assembly.GetManifestResourceStream(script)!;
        using var reader = new StreamReader(stream);
        return reader.ReadToEnd();
    }

    private Task<string> LaunchAsync(Machine machine, string arguments, string input, TimeSpan limit, CancellationToken stop) =>
        WithConnectionAsync(
            machine,
            async (client, installed) =>
            {
                var launch = $"/bin/sh {LauncherFile} {Home}/{options.Installation} {arguments}";
                if (!installed)
                {
                    // Over a new connection the launcher is looked at first, in the same command; mostly it is there from the last time.
                    var (exit, said) = await RunAsync(
                        client,
                        machine,
                        $"{Sudo(machine)}/bin/sh -c '{IsInstalled} || {{ {(input.Length > 0 ? "cat >/dev/null; " : "")}exit "
                            + $"{NotInstalled}; }}; exec {launch}'",
                        input,
                        limit,
                        stop,
                        NotInstalled
                    );
                    if (exit == 0)
                        return said;
                    await InstallAsync(client, machine, stop);
                }

                return (await RunAsync(client, machine, Sudo(machine) + launch, input, limit, stop)).Said;
            },
            stop
        );

    private static string Sudo(Machine machine) => machine.Connection.User == "root" ? "" : "sudo -n ";

    private async Task<string> WithConnectionAsync(Machine machine, Func<SshClient, bool, Task<string>> work, CancellationToken stop)
    {
        var kept = _kept.GetOrAdd(machine.Id, _ => new());
        await kept.Turn.WaitAsync(stop);
        try
        {
            // A connection that was made to another address or with another pinned key is not this machine's any more.
            if (kept.Client is not { IsConnected: true } || kept.Connection != machine.Connection)
            {
                kept.Drop();
                kept.Client = await ConnectAsync(machine, stop);
                kept.Connection = machine.Connection;
            }

            var answer = await work(kept.Client, kept.HasLauncher);
            kept.HasLauncher = true;
            return answer;
        }
        catch (ConnectionException)
        {
            kept.Drop();
            throw;
        }
        catch (Exception error) when (error is not OutOfMemoryException)
        {
            // A hostile machine can make the library end with an exception of any kind; it concerns that machine alone.
            kept.Drop();
            if (stop.IsCancellationRequested)
                throw;
            throw new ConnectionException(
                "unreachable",
                $"{machine.Name} at {machine.Connection.Address}:{machine.Connection.Port} does not answer: {error.Message} It is "
                    + $"asked again; what was begun on it goes on.",
                error
            );
        }
        finally
        {
            kept.Turn.Release();
        }
    }

    private async Task<SshClient> ConnectAsync(Machine machine, CancellationToken stop)
    {
        var connection = machine.Connection;
        var key = await options.Access.KeyAsync(connection.Key, stop);
        var pinned = connection.HostKey ?? "";
        var firstUse = connection.HostKey is null;
        if (firstUse && !await options.Access.TrustsFirstUseAsync(machine, stop))
            throw new ConnectionException(
                "host-key-unknown",
                $"No host key is pinned for {machine.Name}. Import it with a column 'host key', or give it with 'gstair machine pin "
                    + $"{machine.Name} --key \"ssh-ed25519 …\" --reason …'."
            );

        var info = new ConnectionInfo(
            connection.Address,
            connection.Port,
            connection.User,
            new PrivateKeyAuthenticationMethod(connection.User, Load(key))
        )
        {
            Timeout = ConnectTimeout,
        };
        var (pinnedKind, pinnedKey) = pinned.Split(' ', StringSplitOptions.RemoveEmptyEntries) is [var kind, var data, ..]
            ? (kind, data)
            : ("", pinned);
        foreach (var algorithm in info.HostKeyAlgorithms.Keys.Where(a => !firstUse && !Fits(a, pinnedKind)).ToArray())
            info.HostKeyAlgorithms.Remove(algorithm);
        if (!options.PostQuantum)
        {
            foreach (
                var exchange in info
                    .KeyExchangeAlgorithms.Keys.Where(a =>
                        a.StartsWith("mlkem", StringComparison.Ordinal) || a.StartsWith("sntrup", StringComparison.Ordinal)
                    )
                    .ToArray()
            )
                info.KeyExchangeAlgorithms.Remove(exchange);
        }

        var client = new SshClient(info) { KeepAliveInterval = TimeSpan.FromSeconds(30) };
        string? seen = null;
        var shown = "";
        client.HostKeyReceived += (_, e) =>
        {
            shown = $"{KindOf(e.HostKeyName)} {Convert.ToBase64String(e.HostKey)}";
            e.CanTrust = firstUse || Convert.ToBase64String(e.HostKey) == pinnedKey;
            if (!e.CanTrust)
                seen = $"{e.HostKeyName} SHA256:{Fingerprint(e.HostKey)}";
        };
        try
        {
            await client.ConnectAsync(stop);
            if (firstUse)
                await options.Access.PinAsync(machine, shown, stop);
            return client;
        }
        catch (SshAuthenticationException error)
        {
            client.Dispose();
            throw new ConnectionException(
                "login-refused",
                $"{machine.Name} refused the login of '{connection.User}' with the key {key.From}: {error.Message} Put the public key "
                    + $"into that account's authorized_keys.",
                error
            );
        }
        catch (Exception error)
            when (seen is not null || error is SshConnectionException { DisconnectReason: DisconnectReason.KeyExchangeFailed })
        {
            client.Dispose();
            var shows = seen ?? $"no key of kind {pinnedKind}";
            throw new ConnectionException(
                "host-key-changed",
                $"{machine.Name} shows another host key than the one pinned: {shows}, pinned {pinnedKind} "
                    + $"SHA256:{Fingerprint(Bytes(pinnedKey))}. Nothing was sent. If the machine was reinstalled on purpose, pin its key "
                    + $"with 'gstair machine pin {machine.Name} --key \"…\" --reason …'.",
                error
            );
        }
        catch
        {
            client.Dispose();
            throw;
        }
    }

    /// <summary>Whether a host key algorithm uses keys of the pinned kind.</summary>
    private static bool Fits(string algorithm, string kind) => algorithm == kind || KindOf(algorithm) == kind;

    /// <summary>The kind of key as known_hosts names it: RSA keys go by several algorithm names.</summary>
    private static string KindOf(string algorithm) => algorithm.StartsWith("rsa-sha2-", StringComparison.Ordinal) ? "ssh-rsa" : algorithm;

    private static PrivateKeyFile Load(SshKey key)
    {
        try
        {
            using var pem = new MemoryStream(Encoding.UTF8.GetBytes(key.Pem));
            return key.Passphrase is { } passphrase ? new(pem, passphrase) : new(pem);
        }
        catch (Exception error)
            when (error is SshException or ArgumentException or FormatException or CryptographicException or InvalidOperationException)
        {
            // What the library says of a key might hold a part of it.
            var why =
                error is SshPassPhraseNullOrEmptyException
                    ? "it has a passphrase, which was not given"
                    : "it is no private key that can be read, or its passphrase is another one";
            throw new ConnectionException("login-refused", $"The SSH key {key.From} cannot be used: {why}.");
        }
    }

    private static string Fingerprint(byte[] key) => Convert.ToBase64String(SHA256.HashData(key)).TrimEnd('=');

    private static byte[] Bytes(string base64)
    {
        var buffer = new byte[base64.Length];
        return Convert.TryFromBase64String(base64, buffer, out var length) ? buffer[..length] : [];
    }

    /// <summary>A folder that is root's own and no symbolic link.</summary>
    private const string IsOurs = $"[ ! -L {Home} ] && [ \"$(stat -c %u {Home} 2>/dev/null)\" = 0 ]";

    private static readonly string IsInstalled = $"{IsOurs} && echo \"{LauncherHash}  {LauncherFile}\" | sha256sum -c --status 2>/dev/null";

    /// <summary>Puts the launcher into its folder.</summary>
    private static async Task InstallAsync(SshClient client, Machine machine, CancellationToken stop)
    {
        var put =
            $"umask 077; mkdir -p {Home} && {{ {{ {IsOurs}; }} || {{ echo \"{NotOurs} $(stat -c \"%F of %U\" {Home})\"; exit 0; }}; }} "
            + $"&& chmod 700 {Home} && cat > {Home}/launcher.new && mv {Home}/launcher.new {LauncherFile} && echo ready";
        var (_, said) = await RunAsync(client, machine, $"{Sudo(machine)}/bin/sh -c '{put}'", Launcher, CommandTimeout, stop);
        if (said.StartsWith(NotOurs, StringComparison.Ordinal))
            throw new ConnectionException(
                "rights",
                $"{machine.Name}: {Home} is no folder of root's own but a {Texts.Clean(said[NotOurs.Length..], 100)}. Nothing was "
                    + $"written. Find out who put it there, and take it away."
            );
        if (said.Trim() != "ready")
            throw new ConnectionException(
                "rights",
                $"{machine.Name}: '{machine.Connection.User}' cannot write {Home} as root: {Texts.Clean(said, 300)}. Let that account "
                    + $"run /bin/sh by sudo without a password, or log in as root."
            );
    }

    /// <summary>Runs a command to its end; an exit status other than 0 and the one that is expected is thrown.</summary>
    private static async Task<(int Exit, string Said)> RunAsync(
        SshClient client,
        Machine machine,
        string text,
        string input,
        TimeSpan limit,
        CancellationToken stop,
        int expected = 0
    )
    {
        using var command = client.CreateCommand(text);
        using var timeout = CancellationTokenSource.CreateLinkedTokenSource(stop);
        timeout.CancelAfter(limit);
        var running = command.ExecuteAsync(timeout.Token);
        // An end of input that comes after the command's own end would break the connection, so nothing is sent to one that reads nothing.
        if (input.Length > 0)
            using (var stdin = command.CreateInputStream())
                await stdin.WriteAsync(Encoding.UTF8.GetBytes(input), timeout.Token);
        var output = ReadAsync(command.OutputStream, timeout.Token);
        var error = ReadAsync(command.ExtendedOutputStream, timeout.Token);
        var (said, told) = ("", "");
        try
        {
            // Whoever sends without end is cut off: its output ends this before the command does.
            await await Task.WhenAny(running, Overflowing(output), Overflowing(error));
            await running;
            (said, told) = (await output, await error);
        }
        catch (InvalidDataException)
        {
            await timeout.CancelAsync();
            throw new ConnectionException(
                "unreachable",
                $"{machine.Name} sent more than {MostOutput >> 20} MiB in answer to one command, and was cut off. Nothing of it was "
                    + $"taken. See what is wrong with it before it is asked again."
            );
        }

        // 255 or no status: the connection's end, not the command's. What came of it cannot be told.
        if (command.ExitStatus is null or 255)
            throw new SshConnectionException("the connection ended before the command did.");
        if (command.ExitStatus is { } exit && (exit == 0 || exit == expected))
            return (exit, said);
        said = Texts.Clean(told + said, 300);
        throw new ConnectionException(
            said.Contains("sudo", StringComparison.Ordinal) ? "rights" : "unreachable",
            $"{machine.Name}: the launcher ended with status {command.ExitStatus}: {said}"
        );
    }

    /// <summary>Waits for output that fails; output that ends is waited for no longer than the command.</summary>
    private static async Task Overflowing(Task<string> output)
    {
        await output;
        await Task.Delay(Timeout.Infinite);
    }

    /// <summary>What comes, up to a bound.</summary>
    /// <exception cref="InvalidDataException">More than that came.</exception>
    private static async Task<string> ReadAsync(Stream from, CancellationToken stop)
    {
        using var taken = new MemoryStream();
        var buffer = new byte[1 << 14];
        int read;
        while ((read = await from.ReadAsync(buffer, stop)) > 0)
        {
            taken.Write(buffer, 0, read);
            if (taken.Length > MostOutput)
                throw new InvalidDataException();
        }

        return Encoding.UTF8.GetString(taken.GetBuffer(), 0, (int)taken.Length);
    }

    private sealed class Kept : IDisposable
    {
        public SemaphoreSlim Turn { get; } = new(1, 1);

        public SshClient? Client { get; set; }

        public ConnectionAddress? Connection { get; set; }

        /// <summary>Whether the launcher was seen to be there over this connection.</summary>
        public bool HasLauncher { get; set; }

        public void Drop()
        {
            HasLauncher = false;
            Client?.Dispose();
            Client = null;
        }

        public void Dispose()
        {
            Drop();
            Turn.Dispose();
        }
    }
}

/// <summary>Texts that machines send are hostile.</summary>
internal static class Texts
{
    /// <summary>Removes control characters other than line breaks, and keeps the end of the text up to a length.</summary>
    public static string Clean(string text, int most)
    {
        var clean = string.Concat(text.Where(c => c == '\n' || !char.IsControl(c))).Trim();
        return clean.Length > most ? clean[^most..] : clean;
    }
}
