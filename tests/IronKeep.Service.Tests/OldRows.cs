using System.Data.Common;
using IronKeep.Catalogue;
using IronKeep.Core.Forecasts;
using IronKeep.Core.Schedules;
using IronKeep.Core.Watching;
using IronKeep.Service.SignIn;
using IronKeep.Service.Timetable;
using Microsoft.EntityFrameworkCore;

namespace IronKeep.Service.Tests;

/// <summary>Rows as an earlier version wrote them, for whatever tables and columns that version had.</summary>
internal static class OldRows
{
    private static readonly Dictionary<string, HashSet<string>> FilledIn = [];
    private static readonly string[] Subjects =
    [
        "job register on heron",
        "prune of register in store cellar",
        "store cellar",
        "reclaiming of store cellar",
        "channel post",
        "machine heron",
        "the clock of heron",
        "sign-in",
    ];
    private static readonly string[] Causes = ["schedule", "catch-up", "success of run 1", "run 1", "mira", "runner"];

    public static bool Filled(string version, string table) => FilledIn.TryGetValue(version, out var tables) && tables.Contains(table);

    public static async Task FillAsync(KeepContext db)
    {
        var version = (await db.Database.GetAppliedMigrationsAsync()).Last();
        var tables = FilledIn[version] = [];
        await db.Database.OpenConnectionAsync();
        var connection = db.Database.GetDbConnection();
        var tableNames = db.IsPostgres()
            ? await ReadAsync(connection, "SELECT table_name FROM information_schema.tables WHERE table_schema = 'public'", r =>
                r.GetString(0)
            )
            : await ReadAsync(connection, "SELECT name FROM sqlite_master WHERE type = 'table' AND name NOT LIKE 'sqlite_%'", r =>
                r.GetString(0)
            );
        // People come before what is theirs.
        foreach (var table in tableNames.Where(t => !t.StartsWith("__", StringComparison.Ordinal)).OrderBy(t => t == "People" ? 0 : 1))
        {
            var of = db.IsPostgres()
                ? await ReadAsync(
                    connection,
                    $"SELECT column_name, data_type, is_nullable FROM information_schema.columns WHERE table_name = '{table}'",
                    r => (r.GetString(0), r.GetString(1), r.GetString(2) == "NO")
                )
                : await ReadAsync(connection, $"PRAGMA table_info(\"{table}\")", r => (r.GetString(1), r.GetString(2), r.GetInt32(3) == 1));
            var count = table switch
            {
                "Alerts" => Subjects.Length,
                "Runs" => Causes.Length,
                "PlannedRuns" => 4,
                _ => 1,
            };
            for (var i = 0; i < count; i++)
            {
                var given = of.Select(c => (c.Item1, Value: ValueOf(table, c.Item1, c.Item2, i))).Where(c => c.Value is not null).ToList();
                await using var command = connection.CreateCommand();
                command.CommandText =
                    $"INSERT INTO \"{table}\" ({string.Join(", ", given.Select(g => $"\"{g.Item1}\""))}) VALUES "
                    + $"({string.Join(", ", given.Select(g => g.Value))})";
                await command.ExecuteNonQueryAsync();
            }
            tables.Add(table);
        }
    }

    private const string SeamsVersion = "20261129000526_Seams";

    /// <summary>What the sentences of before became.</summary>
    public static async Task JudgeAsync(KeepContext db, string version)
    {
        var runs = await db.Runs.AsNoTracking().OrderBy(r => r.Id).ToListAsync();
        var alerts = await db.Alerts.AsNoTracking().OrderBy(a => a.Id).ToListAsync();
        Assert.All(await db.Copies.AsNoTracking().ToListAsync(), c => Assert.Equal("c1", c.Origin));
        // From the seams on nothing is said in sentences any more.
        if (db.IsPostgres() || string.CompareOrdinal(version, SeamsVersion) >= 0)
            return;
        Assert.Equal(["schedule", "catch-up", "run 1", "run 1", "mira", "runner"], runs.Select(r => r.By.Words));
        Assert.Equal(
            [
                "job register on heron",
                "prune of register on heron in store cellar",
                "store cellar",
                "reclaiming of store cellar",
                "channel post",
                "machine heron",
                "the clock of heron",
                "sign-in",
            ],
            alerts.Select(a => a.Subject.Words)
        );
        // Runs whose ends nobody had followed up, and planned runs of which nobody was told, are left to do.
        var facts = await db.Facts.AsNoTracking().ToListAsync();
        var marked = version.EndsWith("_Settled", StringComparison.Ordinal);
        Assert.Equal(marked ? Causes.Length : 0, facts.Count(f => f.Kind == FactKind.RunEnded && f.RunId > 0));
        Assert.Equal(marked ? 4 : 0, facts.Count(f => f.Kind == FactKind.PlannedRunMissed && f.Count == 1));
    }

    private static async Task<List<T>> ReadAsync<T>(DbConnection connection, string sql, Func<DbDataReader, T> read)
    {
        await using var command = connection.CreateCommand();
        command.CommandText = sql;
        await using var reader = await command.ExecuteReaderAsync();
        var rows = new List<T>();
        while (await reader.ReadAsync())
            rows.Add(read(reader));
        return rows;
    }

    private static string? ValueOf(string table, string column, string type, int i) =>
        (table, column) switch
        {
            (
                "Runs"
                    or "PlannedRuns"
                    or "Alerts"
                    or "People"
                    or "Tokens"
                    or "CalendarAddresses"
                    or "CharterRevisions"
                    or "Messages"
                    or "AlertDeeds"
                    or "Tickets"
                    or "Reports"
                    or "Facts",
                "Id"
            ) => $"{i + 1}",
            ("Copies", "Id") => "'c1'",
            ("Copies", "Kind") => "'incremental'",
            ("Copies", "Origin") => "'c1'",
            ("Alerts", "Subject") => $"'{Subjects[i]}'",
            ("Alerts", "SubjectKind") => "'store'",
            ("Runs", "Cause") => $"'{Causes[i]}'",
            ("Runs", "ByKind") => "'schedule'",
            ("Runs", "Kind") => "'backup'",
            ("Facts", "Kind") => "'run-ended'",
            ("Runs", "State") => "'ended'",
            ("Copies", "State") => "'sound'",
            ("Alerts", "State") => "'open'",
            ("Runs", "Outcome") => "'ok'",
            ("PlannedRuns", "Outcome") => "'missed'",
            ("LogLines", "Severity") => "'warning'",
            ("Alerts", "Severity") => "'danger'",
            ("AlertDeeds", "Kind") => "'opened'",
            ("Reports", "Every") => "'week'",
            ("MachineCoverages", "Class") => "'late'",
            (_, "Class") => "'failed'",
            (_, "Failure" or "Stand") => null,
            ("PlannedRuns", "Due") => $"{i + 1}",
            ("PlannedRuns", "RunId") => null,
            (_, "Told" or "Followed") => type.StartsWith("bool", StringComparison.OrdinalIgnoreCase) ? "false" : "0",
            ("MachineCoverages", "Before") => "'covered'",
            ("Notes", "Key") => "'machine'",
            ("Notes", "Value") => "'heron'",
            (_, "Job") => "'register'",
            (_, "Machine") => "'heron'",
            (_, "Store") => "'cellar'",
            _ => type.ToUpperInvariant() switch
            {
                "INTEGER" or "BIGINT" => "1",
                "REAL" or "DOUBLE PRECISION" => "1.5",
                "BOOLEAN" => "false",
                "BLOB" => "x'01'",
                "BYTEA" => "'\\x01'::bytea",
                _ => "'x'",
            },
        };
}
