using System.Net.Security;
using System.Security.Cryptography;
using System.Security.Cryptography.X509Certificates;

namespace GrandStair.Service.Access;

/// <summary>The certificate that the service shows, read from files, and read again when they change.</summary>
internal sealed class TlsCertificate(string certificateFile, string keyFile, ILogger log)
{
    private static readonly TimeSpan Look = TimeSpan.FromSeconds(1);
    private readonly Lock _turn = new();
    private SslStreamCertificateContext? _context;
    private (DateTime, DateTime) _stamp;
    private long _looked;

    /// <summary>
    /// The certificate with its chain, as the files say now. One that cannot be read is reported, and the previous one stays in use.
    /// </summary>
    /// <exception cref="IOException">None could be read yet.</exception>
    public SslStreamCertificateContext Current
    {
        get
        {
            lock (_turn)
            {
                if (_context is not null && TimeProvider.System.GetElapsedTime(_looked) < Look)
                    return _context;
                _looked = TimeProvider.System.GetTimestamp();
                var stamp = (File.GetLastWriteTimeUtc(certificateFile), File.GetLastWriteTimeUtc(keyFile));
                if (_context is not null && stamp == _stamp)
                    return _context;
                try
                {
                    _context = Load();
                    _stamp = stamp;
                    log.LogInformation(
                        "TLS by {Certificate}, until {Until:yyyy-MM-dd}",
                        _context.TargetCertificate.Subject,
                        _context.TargetCertificate.NotAfter
                    );
                }
                catch (Exception error)
                    when (error is CryptographicException or IOException or UnauthorizedAccessException or ArgumentException)
                {
                    if (_context is null)
                        throw new IOException(
                            $"The TLS certificate in {certificateFile} with the key in {keyFile} cannot be used: {error.Message}",
                            error
                        );
                    log.LogError("The new TLS certificate cannot be used; the one before goes on: {Why}", error.Message);
                }

                return _context;
            }
        }
    }

    private SslStreamCertificateContext Load()
    {
        using var pem = X509Certificate2.CreateFromPemFile(certificateFile, keyFile);
        var chain = new X509Certificate2Collection();
        chain.ImportFromPemFile(certificateFile);
        // A key that was only read from a file is not taken for handshakes everywhere; through PKCS #12 it is.
        return SslStreamCertificateContext.Create(
            X509CertificateLoader.LoadPkcs12(pem.Export(X509ContentType.Pkcs12), null),
            chain,
            offline: true
        );
    }
}
