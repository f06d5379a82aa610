using System.Globalization;
using System.Security.Cryptography;
using System.Text.Json;
using GrandStair.Core.Access;
using GrandStair.Core.Audit;
using GrandStair.Engine.Duties;
using GrandStair.Service.Access;
using GrandStair.Storage.Audit;
using GrandStair.Storage.Databases;

namespace GrandStair.Service.Audit;

/// <summary>
/// The key that signs seals. It is kept outside the database, so that write access to the database is not enough to forge a chain.
/// </summary>
internal sealed class AuditKey : IDisposable
{
    private readonly ECDsa _key;

    private AuditKey(ECDsa key)
    {
        _key = key;
        PublicPem = key.ExportSubjectPublicKeyInfoPem();
        Id = AuditSeal.KeyId(key);
    }

    /// <summary>The SHA-256 of the public key, in hexadecimal.</summary>
    public string Id { get; }

    /// <summary>The public key (PEM), which checks seals.</summary>
    public string PublicPem { get; }

    /// <summary>Reads <c>audit.key</c> in a folder, and makes it where there is none.</summary>
    public static async Task<AuditKey> OpenAsync(string folder, CancellationToken stop)
    {
        var file = Path.Combine(folder, "audit.key");
        var key = ECDsa.Create(ECCurve.NamedCurves.nistP256);
        if (File.Exists(file))
            key.ImportFromPem(await File.ReadAllTextAsync(file, stop));
        else
            await SecretFile.WriteAsync(file, key.ExportPkcs8PrivateKeyPem() + "\n", stop);
        return new(key);
    }

    /// <summary>Signs the state of the chain at an entry.</summary>
    public AuditSeal Sign(long number, string hash)
    {
        lock (_key)
            return new(
                number,
                hash,
                Id,
                Convert.ToBase64String(_key.SignData(AuditSeal.Statement(number, hash), HashAlgorithmName.SHA256))
            );
    }

    /// <summary>Signs a SHA-256 hash: 64 bytes, as IEEE P1363 has them.</summary>
    public byte[] SignHash(byte[] hash)
    {
        lock (_key)
            return _key.SignHash(hash);
    }

    /// <summary>Whether a seal was signed by this key.</summary>
    public bool IsSigned(AuditSeal seal)
    {
        lock (_key)
            return seal.IsSignedBy(_key, Id);
    }

    public void Dispose() => _key.Dispose();
}

/// <summary>
/// Seals the audit as it grows. The newest seal, the head, is kept in the data folder too: sealing goes on only from there, and where the
/// database does not continue the head an alarm is raised in place of a new seal.
/// </summary>
internal sealed class AuditSealer(
    AuditTable audit,
    AuditKey key,
    AuditAlarm alarm,
    AuditAnchors anchors,
    ServiceOptions options,
    DutyHost duties,
    ILogger<AuditSealer> log
) : BackgroundService
{
    private const int Part = 1000;
    private const int Looks = 3;
    private static readonly TimeSpan Look = TimeSpan.FromMilliseconds(500);
    private static readonly TimeSpan AfterTrouble = TimeSpan.FromSeconds(5);
    private static readonly TimeSpan VerifyEvery = TimeSpan.FromHours(1);
    private static readonly JsonSerializerOptions Json = new(JsonSerializerDefaults.Web);

    private string HeadFile => Path.Combine(options.Data, "audit.head");

    /// <summary>
    /// Checks every entry against its hash, every seal, and the head that is kept outside the database. What is wrong raises the alarm.
    /// </summary>
    public async Task<(AuditCheck Check, int Seals)> VerifyAsync(CancellationToken stop)
    {
        // Entries that are sealed while they are read look as if some were left out; what is really wrong is so each time.
        for (var look = 1; ; look++)
        {
            var (check, seals) = await CheckAsync(stop);
            if (check.Faults.Count == 0)
                return (check, seals);
            if (look < Looks)
                continue;
            alarm.Raise($"Entry {check.Faults[0].Number} of the audit: {check.Faults[0].What}.");
            return (check, seals);
        }
    }

    private async Task<(AuditCheck Check, int Seals)> CheckAsync(CancellationToken stop)
    {
        var head = await HeadAsync(stop);
        var seals = await audit.SealsAsync(stop);
        var check = new AuditCheck(seals, key.IsSigned, known: head is null ? null : [(head.Number, head.Hash)]);
        long last = 0;
        while (await audit.AfterAsync(last, Part, stop) is { Count: > 0 } entries)
        {
            foreach (var entry in entries)
                check.Look(entry);
            last = entries[^1].Entry.Number;
        }

        check.End();
        return (check, seals.Count);
    }

    /// <summary>
    /// Continues from an entry that an administrator of the machine has looked at, after the database was restored from a backup or
    /// tampering was investigated: <c>--accept-audit NUMBER:HASH</c>. The entry has to be the last one with a hash.
    /// </summary>
    /// <exception cref="FormatException">The audit has no such entry, or sealed ones after it.</exception>
    public async Task AcceptAsync(string accepted, DateTimeOffset now, CancellationToken stop)
    {
        if (
            accepted.Split(':') is not [var number, { Length: 64 } hash]
            || !long.TryParse(number, NumberStyles.None, CultureInfo.InvariantCulture, out var last)
        )
            throw new FormatException(
                $"--accept-audit is '{accepted}'; expected NUMBER:HASH of the last sealed entry, as 'gstair audit verify' shows its head."
            );
        var after = await audit.AfterAsync(last - 1, 2, stop);
        if (after is not [{ Hash: { } found }, ..] || found != hash || after is [_, { Hash: not null }])
            throw new FormatException(
                $"--accept-audit {accepted}: the last sealed entry of the audit is another one. 'gstair audit verify' shows it as the head."
            );
        var before = await HeadAsync(stop);
        await PutHeadAsync(key.Sign(last, hash), stop);
        var reason = alarm.Clear();
        await audit.AddAsync(
            now,
            new Actor("the machine's administrator", "--accept-audit"),
            "audit accept",
            $"entry {last}",
            null,
            $"continued from {last}:{hash}; the head before was {(before is null ? "not there" : $"{before.Number}:{before.Hash}")}; "
                + $"{reason ?? "there was no alarm"}",
            stop
        );
    }

    protected override Task ExecuteAsync(CancellationToken stoppingToken) =>
        Task.WhenAll(
            duties.RunAsync("audit-seal", KeepSealingAsync, stoppingToken),
            duties.RunAsync(new("audit-check", VerifyEvery, VerifyAsync), stoppingToken)
        );

    private async Task KeepSealingAsync(CancellationToken stop)
    {
        var head = await FirstHeadAsync(stop);
        while (!stop.IsCancellationRequested)
        {
            try
            {
                while (!alarm.IsRaised && await audit.SealAsync(head, key.Sign, key.IsSigned, stop) is { } seal)
                {
                    await PutHeadAsync(seal, stop);
                    head = seal;
                    anchors.Add(seal);
                }

                await Task.Delay(Look, stop);
            }
            catch (AuditMismatchException error)
            {
                alarm.Raise(error.Message);
            }
            catch (Exception error) when (error is StoreException or System.Data.Common.DbException or IOException)
            {
                log.LogError("The audit cannot be sealed, and is tried again: {Why}", error.Message);
                await Task.Delay(AfterTrouble, stop);
            }
        }
    }

    /// <summary>
    /// The head in the data folder. A service that joins others on one database has none yet and begins from the newest seal of their
    /// common key; entries that are sealed by no such key raise the alarm.
    /// </summary>
    private async Task<AuditSeal?> FirstHeadAsync(CancellationToken stop)
    {
        if (await HeadAsync(stop) is { } kept)
            return kept;
        if (File.Exists(HeadFile))
            alarm.Raise($"{HeadFile} is not a head that this service's audit.key has signed.");
        else if (await audit.NewestSealAsync(key.IsSigned, stop) is { } seal)
            return seal;
        else if (await audit.HasSealedAsync(stop))
            alarm.Raise($"The audit was sealed by another key than {key.Id}, which is in the data folder's audit.key.");
        return null;
    }

    private async Task<AuditSeal?> HeadAsync(CancellationToken stop)
    {
        if (!File.Exists(HeadFile))
            return null;
        try
        {
            var head = JsonSerializer.Deserialize<AuditSeal>(await File.ReadAllTextAsync(HeadFile, stop), Json);
            return head is not null && key.IsSigned(head) ? head : null;
        }
        catch (JsonException)
        {
            return null;
        }
    }

    private async Task PutHeadAsync(AuditSeal seal, CancellationToken stop)
    {
        await SecretFile.WriteAsync(HeadFile + ".new", JsonSerializer.Serialize(seal, Json), stop);
        File.Move(HeadFile + ".new", HeadFile, overwrite: true);
    }
}
