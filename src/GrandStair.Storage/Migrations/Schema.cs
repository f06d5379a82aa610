using System.Reflection;
using FluentMigrator;
using FluentMigrator.Runner;
using GrandStair.Storage.Databases;
using Microsoft.Extensions.DependencyInjection;

namespace GrandStair.Storage.Migrations;

/// <summary>Brings a database to the schema of this release.</summary>
internal static class Schema
{
    /// <summary>The number of the newest migration that this release knows.</summary>
    public const long Newest = 9;

    /// <summary>Runs the migrations that are missing. The caller holds the lock.</summary>
    /// <exception cref="StoreException">The database was written by a newer release.</exception>
    public static void Migrate(Dialect dialect)
    {
        using var services = new ServiceCollection()
            .AddFluentMigratorCore()
            .ConfigureRunner(runner => dialect.Configure(runner).WithGlobalConnectionString(dialect.ConnectionString).ScanIn(typeof(Schema).Assembly).For.Migrations())
            .BuildServiceProvider();
        var runner = services.GetRequiredService<IMigrationRunner>();
        if (((MigrationRunner)runner).VersionLoader.VersionInfo.Latest() is var found && found > Newest)
            throw new StoreException("newer-schema", $"The database has schema {found}, and this release knows up to {Newest}. Run the release that wrote it, or a newer one.");
        runner.MigrateUp();
    }

    /// <summary>The text of a migration; the same for both dialects.</summary>
    public static string Text(string name)
    {
        using var stream = Assembly.GetExecutingAssembly().GetManifestResourceStream(name)!;
        using var reader = new StreamReader(stream);
        return reader.ReadToEnd();
    }
}

/// <summary>The first schema.</summary>
[Migration(1)]
public sealed class First : Migration
{
    /// <inheritdoc />
    public override void Up() => Execute.Sql(Migrations.Schema.Text("001-first.sql"));

    /// <inheritdoc />
    public override void Down() => throw new NotSupportedException("A schema is never taken back; restore the backup.");
}

/// <summary>What people decide about machines and plans, the fixes that ran, and the daily tally.</summary>
[Migration(2)]
public sealed class Decisions : Migration
{
    /// <inheritdoc />
    public override void Up() => Execute.Sql(Migrations.Schema.Text("002-decisions.sql"));

    /// <inheritdoc />
    public override void Down() => throw new NotSupportedException("A schema is never taken back; restore the backup.");
}

/// <summary>How far imports came.</summary>
[Migration(3)]
public sealed class Imports : Migration
{
    /// <inheritdoc />
    public override void Up() => Execute.Sql(Migrations.Schema.Text("003-imports.sql"));

    /// <inheritdoc />
    public override void Down() => throw new NotSupportedException("A schema is never taken back; restore the backup.");
}

/// <summary>Accounts with roles and sites, and an audit that is kept as it was written.</summary>
[Migration(4)]
public sealed class Access : Migration
{
    /// <inheritdoc />
    public override void Up()
    {
        Execute.Sql(Migrations.Schema.Text("004-access.sql"));
        // A defence against mistakes rather than attackers, whom the seals find.
        IfDatabase(name => name.StartsWith("SQLite", StringComparison.OrdinalIgnoreCase)).Execute.Sql(
            """
            CREATE TRIGGER audit_not_deleted BEFORE DELETE ON audit BEGIN SELECT RAISE(ABORT, 'the audit is only added to'); END;
            CREATE TRIGGER audit_not_changed BEFORE UPDATE ON audit WHEN OLD.hash IS NOT NULL BEGIN SELECT RAISE(ABORT, 'the audit is only added to'); END;
            """);
        IfDatabase(name => name.StartsWith("Postgre", StringComparison.OrdinalIgnoreCase)).Execute.Sql(
            """
            CREATE FUNCTION audit_only_added_to() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN RAISE EXCEPTION 'the audit is only added to'; END $$;
            CREATE TRIGGER audit_not_deleted BEFORE DELETE ON audit FOR EACH ROW EXECUTE FUNCTION audit_only_added_to();
            CREATE TRIGGER audit_not_changed BEFORE UPDATE ON audit FOR EACH ROW WHEN (OLD.hash IS NOT NULL) EXECUTE FUNCTION audit_only_added_to();
            """);
    }

    /// <inheritdoc />
    public override void Down() => throw new NotSupportedException("A schema is never taken back; restore the backup.");
}

/// <summary>Calendars, the revisions and approvals of plans, and slots with crews and staging.</summary>
[Migration(5)]
public sealed class Planning : Migration
{
    /// <inheritdoc />
    public override void Up() => Execute.Sql(Migrations.Schema.Text("005-planning.sql"));

    /// <inheritdoc />
    public override void Down() => throw new NotSupportedException("A schema is never taken back; restore the backup.");
}

/// <summary>Rehearsals and forecasts.</summary>
[Migration(6)]
public sealed class Rehearsals : Migration
{
    /// <inheritdoc />
    public override void Up() => Execute.Sql(Migrations.Schema.Text("006-rehearsals.sql"));

    /// <inheritdoc />
    public override void Down() => throw new NotSupportedException("A schema is never taken back; restore the backup.");
}

/// <summary>Times that somebody chose for a machine, and secret addresses at which calendars are fetched.</summary>
[Migration(7)]
public sealed class Appointments : Migration
{
    /// <inheritdoc />
    public override void Up() => Execute.Sql(Migrations.Schema.Text("007-appointments.sql"));

    /// <inheritdoc />
    public override void Down() => throw new NotSupportedException("A schema is never taken back; restore the backup.");
}

/// <summary>What an approval covers and who contributed to it, and which token or session a token was made with.</summary>
[Migration(8)]
public sealed class Consent : Migration
{
    /// <inheritdoc />
    public override void Up() => Execute.Sql(Migrations.Schema.Text("008-consent.sql"));

    /// <inheritdoc />
    public override void Down() => throw new NotSupportedException("A schema is never taken back; restore the backup.");
}

/// <summary>The limit that a run waits for, and leases of duties.</summary>
[Migration(9)]
public sealed class Waits : Migration
{
    /// <inheritdoc />
    public override void Up() => Execute.Sql(Migrations.Schema.Text("009-waits.sql"));

    /// <inheritdoc />
    public override void Down() => throw new NotSupportedException("A schema is never taken back; restore the backup.");
}
