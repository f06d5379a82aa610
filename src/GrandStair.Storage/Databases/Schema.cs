using System.Reflection;
using FluentMigrator;
using FluentMigrator.Runner;
using Microsoft.Extensions.DependencyInjection;

namespace GrandStair.Storage.Databases;

/// <summary>Brings a database to the schema of this release.</summary>
internal static class Schema
{
    /// <summary>The number of the newest migration that this release knows.</summary>
    public const long Newest = 1;

    /// <summary>Runs the migrations that are missing. The caller holds the lock.</summary>
    /// <exception cref="StoreException">The database was written by a newer release.</exception>
    public static void Migrate(Dialect dialect)
    {
        using var services = new ServiceCollection()
            .AddFluentMigratorCore()
            .ConfigureRunner(runner =>
                dialect
                    .Configure(runner)
                    .WithGlobalConnectionString(dialect.ConnectionString)
                    .ScanIn(typeof(Schema).Assembly)
                    .For.Migrations()
            )
            .BuildServiceProvider();
        var runner = services.GetRequiredService<IMigrationRunner>();
        if (((MigrationRunner)runner).VersionLoader.VersionInfo.Latest() is var found && found > Newest)
            throw new StoreException(
                "newer-schema",
                $"The database has schema {found}, and this release knows up to {Newest}. Run the release that wrote it, or a newer one."
            );
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
    public override void Up()
    {
        Execute.Sql(Databases.Schema.Text("001-first.sql"));
        // A defence against mistakes rather than attackers, whom the seals find.
        IfDatabase(name => name.StartsWith("SQLite", StringComparison.OrdinalIgnoreCase))
            .Execute.Sql(
                """
                CREATE TRIGGER audit_not_deleted BEFORE DELETE ON audit BEGIN SELECT RAISE(ABORT, 'the audit is only added to'); END;
                CREATE TRIGGER audit_not_changed BEFORE UPDATE ON audit WHEN OLD.hash IS NOT NULL
                  BEGIN SELECT RAISE(ABORT, 'the audit is only added to'); END;
                """
            );
        IfDatabase(name => name.StartsWith("Postgre", StringComparison.OrdinalIgnoreCase))
            .Execute.Sql(
                """
                CREATE FUNCTION audit_only_added_to() RETURNS trigger LANGUAGE plpgsql
                  AS $$ BEGIN RAISE EXCEPTION 'the audit is only added to'; END $$;
                CREATE TRIGGER audit_not_deleted BEFORE DELETE ON audit FOR EACH ROW EXECUTE FUNCTION audit_only_added_to();
                CREATE TRIGGER audit_not_changed BEFORE UPDATE ON audit FOR EACH ROW WHEN (OLD.hash IS NOT NULL) EXECUTE FUNCTION
                  audit_only_added_to();
                """
            );
    }

    /// <inheritdoc />
    public override void Down() => throw new NotSupportedException("A schema is never taken back; restore the backup.");
}
