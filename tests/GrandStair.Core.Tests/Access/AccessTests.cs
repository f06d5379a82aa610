using System.Collections.Immutable;
using CsCheck;
using GrandStair.Core.Access;
using GrandStair.Files;
using GrandStair.Files.HostKeys;
using GrandStair.Files.Providers;
using Xunit;

namespace GrandStair.Core.Tests.Access;

/// <summary>Roles, sites, and what a provider's claims become.</summary>
public sealed class AccessTests
{
    private static readonly Gen<SiteScope> Scopes = Gen.OneOf(
        Gen.Const(SiteScope.All),
        Gen.Int[0, 4].Array[0, 4].Select(sites => SiteScope.Of(sites.Select(s => $"Site {s}")))
    );

    private static readonly ClaimMapping Mapping = new(
        "staff",
        "preferred_username",
        "client_id",
        "groups",
        ImmutableDictionary.CreateRange(
            new Dictionary<string, Roles> { ["planners"] = Roles.Reader | Roles.Planner, ["admins"] = Roles.Admin }
        ),
        "terminals",
        "everywhere"
    );

    [Fact]
    public void What_two_scopes_share_is_what_each_holds() =>
        Gen.Select(Scopes, Scopes, Gen.Int[0, 5])
            .Sample(
                (a, b, n) =>
                {
                    var site = n == 5 ? "" : $"site {n}";
                    Assert.Equal(a.Holds(site) && b.Holds(site), a.Within(b).Holds(site));
                    Assert.Equal(a.Within(b), b.Within(a));
                    Assert.True(a.Covers(a.Within(b)) && b.Covers(a.Within(b)));
                    Assert.Equal(a.Covers(b), a.Within(b).Equals(b));
                    if (a.Covers(b) && b.Holds(site))
                        Assert.True(a.Holds(site));
                    Assert.Equal(a, SiteScope.Of(a.Names));
                }
            );

    [Fact]
    public void A_right_is_refused_without_a_word_about_what_there_is()
    {
        Caller Of(Roles roles, SiteScope sites) => new(new("somebody"), AccountKind.Person, roles, sites);
        var right = new Right(Roles.Planner | Roles.Admin, AllSites: true);
        Assert.Null(right.Refuses(Of(Roles.Admin, SiteScope.All)));
        Assert.Contains(
            "needs the role planner or admin; 'somebody' has reader",
            right.Refuses(Of(Roles.Reader, SiteScope.All)),
            StringComparison.Ordinal
        );
        Assert.Contains("an account of some: Corran", right.Refuses(Of(Roles.Planner, SiteScope.Of(["Corran"]))), StringComparison.Ordinal);
        Assert.Contains("has no role", new Right(Roles.None).Refuses(Of(Roles.None, SiteScope.All)), StringComparison.Ordinal);
        Assert.Null(new Right(Roles.None).Refuses(Of(Roles.Auditor, SiteScope.Of([]))));
        Assert.Equal(RoleNames.Every, RoleNames.Parse(RoleNames.Every.Names()));
        Assert.Contains(
            "'root' is no role",
            Assert.Throws<FormatException>(() => RoleNames.Parse(["reader", "root"])).Message,
            StringComparison.Ordinal
        );
    }

    [Fact]
    public void The_wait_after_wrong_passwords_grows_and_has_an_end()
    {
        Assert.All(Enumerable.Range(0, SignInDelay.Forgiven + 1), n => Assert.Equal(TimeSpan.Zero, SignInDelay.After(n)));
        Assert.Equal([2, 4, 8, 16], Enumerable.Range(4, 4).Select(n => SignInDelay.After(n).TotalSeconds));
        Gen.Int[0, 100_000].Sample(n => Assert.InRange(SignInDelay.After(n + 1), SignInDelay.After(n), SignInDelay.Longest));
    }

    [Theory]
    [InlineData(
        "preferred_username=Planner groups=planners groups=admins terminals=Westhaven",
        "staff/planner Person reader, planner, admin Westhaven"
    )]
    [InlineData(
        "preferred_username=planner groups=planners terminals=everywhere terminals=Corran",
        "staff/planner Person reader, planner *"
    )]
    [InlineData("preferred_username=planner terminals=*", "staff/planner Person  ")]
    [InlineData("preferred_username=planner groups=strangers", "staff/planner Person  ")]
    [InlineData("client_id=wall-screen groups=planners terminals=Corran", "staff/wall-screen Program reader, planner Corran")]
    [InlineData("sub=1 groups=admins terminals=everywhere", "says neither 'preferred_username' nor 'client_id'")]
    [InlineData("preferred_username=../admin groups=admins", "a name that is none of ours")]
    public void Claims_become_an_account_of_the_provider_and_of_nobody_else(string claims, string account)
    {
        var mapped = Mapping.Of([.. claims.Split(' ').Select(c => c.Split('=')).Select(c => (c[0], c[1]))], out var why);
        if (mapped is { } m)
            Assert.Equal(account, $"{m.Name} {m.Kind} {string.Join(", ", m.Roles.Names())} {m.Sites}");
        else
            Assert.Contains(account, why, StringComparison.Ordinal);
    }

    [Theory]
    [InlineData(" *")]
    [InlineData("* ")]
    [InlineData(" ")]
    [InlineData("\t*\n")]
    public void A_claim_of_blanks_or_an_asterisk_among_blanks_gives_no_site(string site)
    {
        var mapped = Mapping.Of([("preferred_username", "planner"), ("groups", "planners"), ("terminals", site)], out _);
        Assert.Equal((false, 0), (mapped!.Value.Sites.IsAll, mapped.Value.Sites.Names.Length));
        Assert.Equal(
            ["Corran"],
            Mapping.Of([("preferred_username", "planner"), ("terminals", site), ("terminals", " Corran ")], out _)!.Value.Sites.Names
        );
    }

    [Theory]
    [InlineData("secret:ldap-reader", "secret", "ldap-reader")]
    [InlineData("file:/run/keys/carrier", "file", "/run/keys/carrier")]
    [InlineData("env:LDAP_PASSWORD", "env", "LDAP_PASSWORD")]
    [InlineData("berth-seven", null, null)]
    [InlineData("secret:9berths", null, null)]
    [InlineData("secret:../x", null, null)]
    [InlineData("https://x", null, null)]
    public void A_secret_is_referred_to_and_a_text_that_is_no_reference_is_not_repeated(string text, string? kind, string? name)
    {
        if (kind is not null)
            Assert.Equal(new(kind, name!), SecretReference.Parse(text));
        else
            Assert.DoesNotContain(
                text,
                Assert.Throws<FormatException>(() => SecretReference.Parse(text)).Message,
                StringComparison.Ordinal
            );
    }

    [Fact]
    public void A_provider_s_file_is_read_and_all_that_is_wrong_is_told()
    {
        var file = File.ReadAllText(Path.Combine(House.Root, "docs", "examples", "provider.yaml"));
        var provider = ProviderFile.Parse(file, "provider.yaml");
        Assert.Equal(
            ("staff", "grandstair-console", "secret:staff-client"),
            (provider.Mapping.Provider, provider.Client, provider.ClientSecret!.ToString())
        );
        Assert.Equal(Roles.Reader | Roles.Planner, provider.Mapping.RolesOf["fleet-planners"]);
        var wrong = Assert.Throws<FileException>(() =>
            ProviderFile.Parse(
                file.Replace("https://id", "http://id", StringComparison.Ordinal)
                    .Replace("secret:staff-client", "hunter2hunter2", StringComparison.Ordinal)
                    .Replace("reader planner", "reader plonner", StringComparison.Ordinal),
                "provider.yaml"
            )
        );
        foreach (var says in new[] { "is no address of a provider", "is not written down here but referred to", "'plonner' is no role" })
            Assert.Contains(wrong.Problems, p => p.Message.Contains(says, StringComparison.Ordinal));
        Assert.DoesNotContain(wrong.Problems, p => p.Message.Contains("hunter2", StringComparison.Ordinal));
    }

    [Fact]
    public void A_known_hosts_file_is_read_with_plain_ported_and_hashed_names()
    {
        const string Key = "AAAAC3NzaC1lZDI1NTE5AAAAIAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA";
        // 'gate-w-1' under the salt 'c2FsdHNhbHRzYWx0c2FsdHM='.
        var salt = "saltsaltsaltsaltsalt"u8.ToArray();
#pragma warning disable CA5350
        var hashed =
            $"|1|{Convert.ToBase64String(salt)}|"
            + $"{Convert.ToBase64String(System.Security.Cryptography.HMACSHA1.HashData(salt, "gate-w-1"u8))}";
#pragma warning restore CA5350
        var (hosts, problems) = KnownHosts.Parse(
            $"# remarks\n\nweb-1,10.0.0.1 ssh-ed25519 {Key} remark\n[web-2]:2222 ssh-rsa {Key}\n{hashed} ssh-ed25519 {Key}\n"
                + $"@cert-authority * ssh-ed25519 {Key}\nweb-3 ssh-dss {Key}\nweb-4 ssh-ed25519 ???\n",
            "known_hosts"
        );
        Assert.Equal([3, 4, 5], hosts.Select(h => h.Line));
        Assert.Equal([6, 7, 8], problems.Select(p => p.Line));
        Assert.True(
            hosts[0].IsFor("WEB-1", 22) && hosts[0].IsFor("10.0.0.1", 22) && !hosts[0].IsFor("web-1", 2222) && !hosts[0].IsFor("web-2", 22)
        );
        Assert.True(hosts[1].IsFor("web-2", 2222) && !hosts[1].IsFor("web-2", 22));
        Assert.True(hosts[2].IsFor("gate-w-1", 22) && !hosts[2].IsFor("gate-w-2", 22));
        Assert.True(KnownHosts.Rank("ssh-ed25519") < KnownHosts.Rank("ssh-rsa"));
    }
}
