using System.DirectoryServices.Protocols;
using System.Net;
using System.Runtime.CompilerServices;

namespace GrandStair.Connections.Directories;

/// <summary>How the connection to a directory is protected.</summary>
public enum LdapSecurity
{
    /// <summary>TLS from the first byte (ldaps).</summary>
    Tls,

    /// <summary>TLS is begun on the plain port before anything is sent (RFC 4511 §4.14).</summary>
    StartTls,

    /// <summary>Not at all; the password goes over the line as it is. For loopback.</summary>
    None,
}

/// <summary>Where a directory is, as whom it is read, and what of it.</summary>
/// <param name="Server">Host name or address.</param>
/// <param name="Port">TCP port.</param>
/// <param name="Security">How the connection is protected.</param>
/// <param name="Bind">The distinguished name that reads; null reads as nobody.</param>
/// <param name="Base">The distinguished name below which entries are read.</param>
/// <param name="Filter">Which entries, as an LDAP filter (RFC 4515).</param>
/// <param name="Attributes">The attributes that are asked for.</param>
/// <param name="PageSize">How many entries come at a time (RFC 2696).</param>
public sealed record LdapQuery(
    string Server,
    int Port,
    LdapSecurity Security,
    string? Bind,
    string Base,
    string Filter,
    IReadOnlyList<string> Attributes,
    int PageSize
);

/// <summary>An entry of a directory.</summary>
/// <param name="Name">Its distinguished name.</param>
/// <param name="Attributes">The values of each attribute that it has, by name, case ignored.</param>
public sealed record LdapEntry(string Name, IReadOnlyDictionary<string, IReadOnlyList<string>> Attributes);

/// <summary>Reads directories over LDAP (RFC 4511), page by page.</summary>
public static class LdapDirectory
{
    private const int WrongCredentials = 49;
    private const int ServerDown = 81;
    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(30);

    /// <summary>Reads all entries of a query, one after the other.</summary>
    /// <param name="query">What is read.</param>
    /// <param name="password">The password of who reads.</param>
    /// <param name="stop">Ends the reading.</param>
    /// <exception cref="ConnectionException">The directory could not be read to its end: <c>unreachable</c>, <c>login-refused</c>, or
    /// <c>query</c> where it does not understand what it is asked.</exception>
    public static async IAsyncEnumerable<LdapEntry> ReadAsync(
        LdapQuery query,
        string? password,
        [EnumeratorCancellation] CancellationToken stop
    )
    {
        ArgumentNullException.ThrowIfNull(query);
        using var connection = Connect(query, password);
        var request = new SearchRequest(query.Base, query.Filter, SearchScope.Subtree, [.. query.Attributes]);
        var page = new PageResultRequestControl(query.PageSize);
        request.Controls.Add(page);
        var read = 0;
        do
        {
            stop.ThrowIfCancellationRequested();
            var answer = await SearchAsync(connection, request, query, read);
            foreach (SearchResultEntry entry in answer.Entries)
            {
                read++;
                yield return ToEntry(entry);
            }

            page.Cookie = answer.Controls.OfType<PageResultResponseControl>().FirstOrDefault()?.Cookie ?? [];
        } while (page.Cookie.Length > 0);
    }

    private static LdapConnection Connect(LdapQuery query, string? password)
    {
        var where = $"{query.Server}:{query.Port}";
        var connection = new LdapConnection(new LdapDirectoryIdentifier(query.Server, query.Port))
        {
            AuthType = AuthType.Anonymous,
            Timeout = Patience,
        };
        try
        {
            connection.SessionOptions.ProtocolVersion = 3;
            connection.SessionOptions.ReferralChasing = ReferralChasingOptions.None;
            if (query.Security == LdapSecurity.Tls)
                connection.SessionOptions.SecureSocketLayer = true;
            if (query.Security == LdapSecurity.StartTls)
                StartTls(connection);
            connection.AuthType = query.Bind is null ? AuthType.Anonymous : AuthType.Basic;
            connection.Bind(query.Bind is null ? new NetworkCredential() : new NetworkCredential(query.Bind, password));
            return connection;
        }
        catch (LdapException error) when (error.ErrorCode == WrongCredentials)
        {
            connection.Dispose();
            throw new ConnectionException(
                "login-refused",
                $"The directory at {where} refuses '{query.Bind}': the name or the password is wrong. Nothing was read; what was known "
                    + $"stays.",
                error
            );
        }
        catch (Exception error) when (error is LdapException or TlsOperationException or DirectoryOperationException)
        {
            connection.Dispose();
            var secured =
                query.Security == LdapSecurity.None
                    ? ""
                    : $" It is asked for {(query.Security == LdapSecurity.Tls ? "TLS" : "StartTLS")}; its certificate must be for that "
                        + $"name and by an authority that the system's LDAP library trusts (TLS_CACERT in /etc/ldap/ldap.conf, or "
                        + $"LDAPTLS_CACERT).";
            throw new ConnectionException(
                "unreachable",
                $"The directory at {where} does not answer: {Tell(error)}.{secured} Nothing was read; what was known stays.",
                error
            );
        }
    }

    /// <summary>
    /// Begins TLS. The library connects only when it binds, so nobody is bound first; that a directory refuses nobody does no harm.
    /// </summary>
    private static void StartTls(LdapConnection connection)
    {
        try
        {
            connection.Bind(new NetworkCredential());
        }
        catch (Exception error) when (error is DirectoryOperationException or LdapException { ErrorCode: not ServerDown })
        {
            // It is connected all the same.
        }

        connection.SessionOptions.StartTransportLayerSecurity(null);
    }

    private static async Task<SearchResponse> SearchAsync(LdapConnection connection, SearchRequest request, LdapQuery query, int read)
    {
        try
        {
            return (SearchResponse)
                await Task.Factory.FromAsync(
                    connection.BeginSendRequest(request, Patience, PartialResultProcessing.NoPartialResultSupport, null!, null!),
                    connection.EndSendRequest
                );
        }
        catch (DirectoryOperationException error)
        {
            throw new ConnectionException(
                "query",
                $"The directory at {query.Server}:{query.Port} does not answer what it is asked ({Tell(error)}); base '{query.Base}', "
                    + $"filter '{query.Filter}'. Check both; nothing was taken.",
                error
            );
        }
        catch (LdapException error)
        {
            throw new ConnectionException(
                "unreachable",
                $"The directory at {query.Server}:{query.Port} stopped answering after {read} entries: {Tell(error)}. Nothing of this "
                    + $"reading was taken; what was known stays.",
                error
            );
        }
    }

    private static string Tell(Exception error) =>
        (
            error is DirectoryOperationException { Response.ErrorMessage.Length: > 0 } told ? told.Response.ErrorMessage : error.Message
        ).TrimEnd('.', ' ');

    private static LdapEntry ToEntry(SearchResultEntry entry)
    {
        var attributes = new Dictionary<string, IReadOnlyList<string>>(StringComparer.OrdinalIgnoreCase);
        foreach (DirectoryAttribute attribute in entry.Attributes.Values)
            attributes[attribute.Name] = [.. attribute.GetValues(typeof(string)).Cast<string>()];
        return new(entry.DistinguishedName, attributes);
    }
}
