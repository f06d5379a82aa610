using GrandStair.Testing;
using Xunit;

namespace GrandStair.Hosts.Tests;

/// <summary>A real PostgreSQL 15 on a Debian system goes to 17 side by side, back, and forward again.</summary>
public sealed class DatabaseTests : HostTests
{
    private const string Plan = """
        plan: old-to-new
        target: { product: PostgreSQL, release: "17" }
        scope: database.product = "PostgreSQL" and database.version < 17
        methods: [side-by-side]
        waves: [{ name: Pilot }]
        windows: [{ zone: Europe/London, weekly: ["Mon-Sun 00:00-00:00"] }]
        limits: { all: 1 }
        advance: { verified: 100 %, failures: 0, soak: 0 s }
        lead: 0 s
        """;

    // A server of the release before, as a system has it that has just been upgraded.
    private const string SetUp = """
        set -e
        export DEBIAN_FRONTEND=noninteractive
        sed -n 's/trixie/bookworm/gp' /etc/apt/sources.list > /etc/apt/sources.list.d/before.list
        apt-get update -qq
        mkdir -p /etc/postgresql-common
        printf "listen_addresses = ''\ncreate_main_cluster = false\n" > /etc/postgresql-common/createcluster.conf
        apt-get install -y -qq --no-install-recommends postgresql-15 > /dev/null
        sed -i /create_main/d /etc/postgresql-common/createcluster.conf
        pg_createcluster 15 main --locale C.UTF-8 -- --data-checksums > /dev/null
        pg_conftool 15 main set work_mem 7MB
        pg_ctlcluster 15 main start
        """;

    private const string Data = """
        CREATE ROLE booking_desk LOGIN CONNECTION LIMIT 20;
        CREATE DATABASE ferries OWNER booking_desk CONNECTION LIMIT 50;
        \c ferries
        CREATE EXTENSION pg_trgm;
        CREATE TABLE booking (id serial PRIMARY KEY, passenger text NOT NULL, sails timestamptz, fare numeric(8, 2), weight float8);
        INSERT INTO booking (passenger, sails, fare, weight)
            SELECT 'Passenger ' || n, timestamptz '2026-06-01 08:00Z' + n * interval '7 minutes', n * 0.37, 70 + sin(n) FROM generate_series(1, 5000) n;
        CREATE INDEX ON booking USING gin (passenger gin_trgm_ops);
        ALTER TABLE booking OWNER TO booking_desk;
        """;

    private const string StateOfServer =
        "SELECT current_setting('server_version_num')::int / 10000, current_setting('work_mem'), extname "
        + "FROM pg_extension WHERE extname = 'pg_trgm'";

    private const string Sum = "SELECT count(*), md5(string_agg(t::text, '|' ORDER BY id)) FROM booking t";

    [Fact]
    public async Task A_database_is_copied_to_a_later_server_tried_rolled_back_and_upgraded_again()
    {
        await using var host = await TestHost.StartAsync("gs-database", "127.0.0.56", "trixie");
        await host.DoAsync(SetUp);
        await host.DoAsync($"cat > /tmp/data.sql <<'SQL'\n{Data}\nSQL\nsu postgres -c 'psql -q -v ON_ERROR_STOP=1 -f /tmp/data.sql'");
        var before = await AskAsync(host, Sum);
        Assert.StartsWith("5000|", before, StringComparison.Ordinal);
        await using var service = await ServiceProcess.StartAsync("--ssh-key", host.KeyFile, "--ssh-post-quantum", "no");
        await ImportAsync(service, host, "root");
        await service.OkAsync("machine", "read", host.Name);
        Assert.Contains(
            "the gate is open",
            await service.OkAsync("machine", "gate", host.Name, "--product", "PostgreSQL"),
            StringComparison.Ordinal
        );

        // The service is killed while the new cluster is built, and the work goes on on the host.
        await PlanAsync(service, Plan);
        await WaitAsync(service, r => r.Phase == "apply", "the data is being copied");
        await service.KillAsync();
        await service.StartAgainAsync();
        await WaitAsync(service, r => r.Asked is not null, "the owner is asked to try the application");
        Assert.Equal(before, await AskAsync(host, Sum));
        Assert.Equal("17|7MB|pg_trgm", await AskAsync(host, StateOfServer));
        Assert.Equal("50", await AskAsync(host, "SELECT datconnlimit FROM pg_database WHERE datname = 'ferries'"));
        Assert.Matches("^15 main 5433 down", await host.DoAsync("pg_lsclusters -h | tr -s ' ' | grep ^15"));

        // What the owner finds is a reason to go back.
        await service.OkAsync("run", "answer", "not-possible", "r1", "--note", "the timetable is empty");
        await WaitAsync(service, r => r.Parked?.Contains("the timetable is empty", StringComparison.Ordinal) == true, "the run is parked");
        await service.OkAsync("run", "decide", "r1", "roll-back", "--now", "--reason", "the timetable is empty");
        var back = await WaitAsync(service, r => r.Outcome is not null, "the run is rolled back");
        Assert.Equal("rolled-back", back.Run.Outcome);
        Assert.Equal("15|7MB|pg_trgm", await AskAsync(host, StateOfServer));
        Assert.Equal(before, await AskAsync(host, Sum));
        Assert.Matches("^15 main 5432 online", await host.DoAsync("pg_lsclusters -h | tr -s ' '"));
        Assert.DoesNotContain("\n", await host.DoAsync("pg_lsclusters -h"), StringComparison.Ordinal);
        await AssertEvidenceAsync(service, "r1");
        await AgainAsync(service, host, before);
    }

    /// <summary>Forward again: the application works, and the old cluster is kept.</summary>
    private static async Task AgainAsync(ServiceProcess service, TestHost host, string before)
    {
        await service.OkAsync("plan", "retry", "old-to-new", host.Name, "--reason", "the timetable is repaired");
        await Eventually.TrueAsync(
            async () => (await service.Client.RunsAsync(null, null, 10, Stop)).Total == 2,
            TimeSpan.FromMinutes(1),
            () => "a second run is opened"
        );
        await WaitAsync(service, r => r.Asked is not null, "the owner is asked to try the application again", run: "r2");
        await service.OkAsync("run", "answer", "done", "r2", "--note", "booked a crossing");
        var verified = await WaitAsync(service, r => r.Verified is not null, "the run is verified", run: "r2");
        await AssertNotParkedAsync(host, verified);
        Assert.Equal(0, Assert.Single(verified.Comparisons).Failing);
        Assert.Equal(before, await AskAsync(host, Sum));
        Assert.Equal("17|7MB|pg_trgm", await AskAsync(host, StateOfServer));
        await AssertEvidenceAsync(service, "r2");
    }

    private static Task<string> AskAsync(TestHost host, string question) =>
        host.DoAsync($"cd / && su postgres -c \"psql -X -A -t -p 5432 -d ferries\" <<'SQL'\n{question};\nSQL");
}
