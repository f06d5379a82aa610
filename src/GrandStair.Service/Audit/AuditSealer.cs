using System.Security.Cryptography;
using System.Text.Json;
using GrandStair.Core.Audit;
using GrandStair.Service.Access;
using GrandStair.Storage.Audit;
using GrandStair.Storage.Databases;

namespace GrandStair.Service.Audit;

/// <summary>The key that signs seals. It lies outside the database, so that whoever can write there cannot make a chain of his own.</summary>
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
        if (File.Exists(file)) key.ImportFromPem(await File.ReadAllTextAsync(file, stop));
        else await SecretFile.WriteAsync(file, key.ExportPkcs8PrivateKeyPem() + "\n", stop);
        return new(key);
    }

    /// <summary>Signs that the chain stands so at an entry.</summary>
    public AuditSeal Sign(long number, string hash)
    {
        lock (_key) return new(number, hash, Id, Convert.ToBase64String(_key.SignData(AuditSeal.Statement(number, hash), HashAlgorithmName.SHA256)));
    }

    /// <summary>Whether a seal was signed by this key.</summary>
    public bool IsSigned(AuditSeal seal)
    {
        lock (_key) return seal.IsSignedBy(_key, Id);
    }

    public void Dispose() => _key.Dispose();
}

/// <summary>Seals the audit as it grows, and keeps the newest seal outside the database too, so that an end that is cut off is missed.</summary>
internal sealed class AuditSealer(AuditTable audit, AuditKey key, ServiceOptions options, ILogger<AuditSealer> log) : BackgroundService
{
    private static readonly TimeSpan Look = TimeSpan.FromMilliseconds(500);
    private static readonly TimeSpan AfterTrouble = TimeSpan.FromSeconds(5);
    private static readonly JsonSerializerOptions Json = new(JsonSerializerDefaults.Web);

    private string HeadFile => Path.Combine(options.Data, "audit.head");

    /// <summary>The newest seal as it was kept outside the database; null where there is none.</summary>
    public async Task<AuditSeal?> HeadAsync(CancellationToken stop)
    {
        if (!File.Exists(HeadFile)) return null;
        var head = JsonSerializer.Deserialize<AuditSeal>(await File.ReadAllTextAsync(HeadFile, stop), Json);
        return head is not null && key.IsSigned(head) ? head : null;
    }

    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        await Task.Yield();
        while (!stoppingToken.IsCancellationRequested)
        {
            try
            {
                while (await audit.SealAsync(key.Sign, stoppingToken) is { } seal)
                {
                    await File.WriteAllTextAsync(HeadFile + ".new", JsonSerializer.Serialize(seal, Json), stoppingToken);
                    File.Move(HeadFile + ".new", HeadFile, overwrite: true);
                }

                await Task.Delay(Look, stoppingToken);
            }
            catch (Exception error) when (error is StoreException or System.Data.Common.DbException or IOException)
            {
                log.LogError("The audit cannot be sealed, and is tried again: {Why}", error.Message);
                await Task.Delay(AfterTrouble, stoppingToken);
            }
        }
    }
}
