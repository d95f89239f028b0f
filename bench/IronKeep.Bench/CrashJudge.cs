using IronKeep.Stores.Places;
using IronKeep.Stores.Pooled;
using IronKeep.Stores.Restores;
using Microsoft.Data.Sqlite;

namespace IronKeep.Bench;

/// <summary>
/// The law by which a service is judged that was killed again and again: minute schedules, and sources whose files each say one number over
/// and over. Whoever breaks it is an <see cref="InvalidOperationException"/>.
/// </summary>
internal static class CrashJudge
{
    /// <summary>Every due minute is one planned run that was served once or ended by name; what follows from runs was followed.</summary>
    public static string Planned(SqliteConnection db)
    {
        var planned = Rows(db, "SELECT Job, Due, Outcome FROM PlannedRuns ORDER BY Job, Due");
        long served = 0,
            others = 0;
        foreach (var job in planned.GroupBy(p => (string)p[0]))
        {
            // From the first to the last no minute is left out or twice.
            var due = job.Select(p => (long)p[1] / 600_000_000).ToList();
            for (var i = 1; i < due.Count; i++)
                if (due[i] != due[i - 1] + 1)
                    throw new InvalidOperationException(
                        $"{job.Key}: between minutes {due[i - 1]} and {due[i]} something is missing or twice"
                    );
            served += job.Count(p => p[2] is "ok" or "warned" or "suspect");
            others += job.Count(p => p[2] is not ("ok" or "warned" or "suspect"));
            if (job.SkipLast(2).Any(p => p[2] is DBNull))
                throw new InvalidOperationException($"{job.Key}: a planned run has no outcome");
        }
        Need(
            db,
            "SELECT COUNT(*) FROM (SELECT PlannedRunId FROM Runs WHERE PlannedRunId IS NOT NULL AND Outcome IN ('ok','warned') GROUP BY "
                + "PlannedRunId HAVING COUNT(*) > 1)",
            "planned runs were served twice"
        );
        Need(db, "SELECT COUNT(*) FROM Runs WHERE State <> 'ended' OR Outcome IS NULL", "runs are not ended");
        Need(db, "SELECT COUNT(*) FROM FollowerPositions WHERE Problem IS NOT NULL", "followers stumble");
        Need(
            db,
            "SELECT COUNT(*) FROM Facts WHERE Kind = 'run-ended' AND Id > (SELECT Position FROM FollowerPositions WHERE Name = "
                + "'run-alerts')",
            "ends were not followed up"
        );
        Need(db, "SELECT COUNT(*) FROM Copies WHERE GoneAt IS NULL AND State IN ('missing','unsound')", "copies are missing or hurt");
        return $"{planned.Count} due minutes, {served} served once, {others} ended by name";
    }

    /// <summary>Catalogue and stores agree; every copy in force is whole and comes back as it was taken.</summary>
    public static string Copies(SqliteConnection db, string work, IReadOnlyList<string> stores)
    {
        int compared = 0,
            copies = 0;
        foreach (var name in stores)
        {
            using var store = PooledStore.OpenToRead(new FolderPlace($"{work}/{name}"));
            if (!StoreCheck.Run(store, CheckScope.Everything with { Depth = CheckDepth.Deep, OnlyLooks = true }).Sound)
                throw new InvalidOperationException($"store {name} is not sound");
            var known = Rows(db, $"SELECT Id, BinnedAt FROM Copies WHERE Store = '{name}' AND GoneAt IS NULL")
                .ToDictionary(r => (string)r[0], r => r[1] is not DBNull);
            foreach (var copy in store.ReadContents().Copies)
            {
                copies++;
                if (!known.Remove(copy.Record.Id, out var binned) || binned != copy.Binned is not null)
                    throw new InvalidOperationException($"store {name} and the catalogue do not agree about copy {copy.Record.Id}");
                var back = $"{work}/back";
                Shell.Run($"rm -rf '{back}'");
                using var restorer = new TreeRestorer(store);
                if (restorer.Restore(copy.Record, [], back).Problems.Count > 0)
                    throw new InvalidOperationException($"copy {copy.Record.Id} does not restore");
                foreach (
                    var file in Directory
                        .EnumerateFiles(back, "*", SearchOption.AllDirectories)
                        .Where(f => !f.EndsWith(".new", StringComparison.Ordinal))
                )
                {
                    compared++;
                    if (File.ReadLines(file).Distinct().Count() != 1)
                        throw new InvalidOperationException($"{file} of copy {copy.Record.Id} is not what was taken");
                }
            }
            if (known.Count > 0)
                throw new InvalidOperationException($"store {name} does not hold {string.Join(", ", known.Keys)}");
        }
        var most = Rows(
            db,
            "SELECT COUNT(*) FROM Copies WHERE GoneAt IS NULL AND BinnedAt IS NULL GROUP BY Job, Store ORDER BY 1 DESC LIMIT 1"
        );
        return $"{copies} copies agree with the catalogue, {compared} files compared, "
            + $"at most {most[0][0]} copies of a job in force in a store";
    }

    public static void Need(SqliteConnection db, string count, string wrong)
    {
        if (Rows(db, count)[0][0] is long and > 0 and var found)
            throw new InvalidOperationException($"{found} {wrong}");
    }

    public static List<object[]> Rows(SqliteConnection db, string sql)
    {
        using var command = db.CreateCommand();
        command.CommandText = sql;
        using var reader = command.ExecuteReader();
        var rows = new List<object[]>();
        while (reader.Read())
        {
            var row = new object[reader.FieldCount];
            reader.GetValues(row);
            rows.Add(row);
        }
        return rows;
    }
}
