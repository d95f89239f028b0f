using Microsoft.EntityFrameworkCore.Migrations;

namespace IronKeep.Catalogue.Sqlite;

/// <summary>
/// What catalogues from before said in sentences becomes parts: causes of runs, subjects of alerts, marks of what was left to do.
/// </summary>
internal static class SeamsWords
{
    private const string Now = "(CAST(strftime('%s','now') AS INTEGER) * 10000000)";

    /// <summary>Before the marks go: runs that nobody has followed up, and planned runs of which nobody was told, are facts.</summary>
    public static void SayWhatIsLeft(MigrationBuilder m)
    {
        m.Sql(
            $"""INSERT INTO "Facts" ("At", "Kind", "Job", "Machine", "Store", "RunId", "PlannedRunId", "Due", "Count") SELECT {Now}, 'run-ended', "Job", "Machine", "Store", "Id", "PlannedRunId", "Due", 1 FROM "Runs" WHERE "Followed" = 0 AND "State" = 'ended' AND "Outcome" IS NOT NULL ORDER BY "Id";"""
        );
        m.Sql(
            $"""INSERT INTO "Facts" ("At", "Kind", "Job", "Machine", "PlannedRunId", "Due", "Count") SELECT {Now}, CASE "Outcome" WHEN 'missed' THEN 'planned-run-missed' ELSE 'planned-run-silent' END, "Job", "Machine", "Id", "Due", "Times" FROM "PlannedRuns" WHERE "Told" = 0 AND "Outcome" IN ('missed', 'timed-out') ORDER BY "Due";"""
        );
        // A planned run whose run has ended without it, by a version that wrote the two one after the other.
        m.Sql(
            """UPDATE "PlannedRuns" SET "Outcome" = COALESCE((SELECT r."Outcome" FROM "Runs" r WHERE r."Id" = "PlannedRuns"."RunId"), 'failed'), "Reason" = COALESCE((SELECT r."Sentence" FROM "Runs" r WHERE r."Id" = "PlannedRuns"."RunId"), 'its run is not in the catalogue') WHERE "Outcome" IS NULL AND "RunId" IS NOT NULL AND NOT EXISTS (SELECT 1 FROM "Runs" r WHERE r."Id" = "PlannedRuns"."RunId" AND r."State" <> 'ended');"""
        );
        m.Sql(
            """UPDATE "Runs" SET "Outcome" = 'failed', "Failure" = 'interrupted', "Sentence" = 'interrupted: the service ended while the run was at work; earlier copies are whole' WHERE "State" = 'ended' AND "Outcome" IS NULL;"""
        );
    }

    /// <summary>After the columns are there; those of the kinds hold the old sentences.</summary>
    public static void TakeApart(MigrationBuilder m)
    {
        m.Sql("""UPDATE "Copies" SET "Origin" = "Id" WHERE "Origin" = '';""");
        m.Sql(
            """UPDATE "Runs" SET "ByRunId" = CAST(substr("ByKind", instr("ByKind", 'run ') + 4) AS INTEGER), "ByKind" = 'run' WHERE "ByKind" LIKE 'success of run %' OR "ByKind" GLOB 'run [0-9]*';"""
        );
        m.Sql("""UPDATE "Runs" SET "ByName" = "ByKind", "ByKind" = 'person' WHERE "ByKind" NOT IN ('schedule', 'catch-up', 'run');""");
        m.Sql(
            """UPDATE "PlannedRuns" SET "Stand" = CASE WHEN "Reason" LIKE 'goes on: %' THEN 'goes-on' WHEN "Reason" LIKE 'started %' THEN 'started' ELSE 'waits' END WHERE "Outcome" IS NULL AND ("Reason" LIKE 'goes on: %' OR "Reason" LIKE 'started %' OR "Reason" = 'waits for an earlier run of the job');"""
        );
        m.Sql(
            """UPDATE "Alerts" SET "SubjectJob" = substr("SubjectKind", 5, instr("SubjectKind", ' on ') - 5), "SubjectMachine" = substr("SubjectKind", instr("SubjectKind", ' on ') + 4), "SubjectKind" = 'job' WHERE "SubjectKind" LIKE 'job % on %';"""
        );
        m.Sql(
            """UPDATE "Alerts" SET "SubjectJob" = substr("SubjectKind", 10, instr("SubjectKind", ' in store ') - 10), "SubjectStore" = substr("SubjectKind", instr("SubjectKind", ' in store ') + 10), "SubjectMachine" = COALESCE((SELECT n."Value" FROM "Notes" n WHERE n."Key" = 'machine'), (SELECT w."Machine" FROM "JobWatches" w LIMIT 1)), "SubjectKind" = 'prune' WHERE "SubjectKind" LIKE 'prune of % in store %';"""
        );
        m.Sql(
            """UPDATE "Alerts" SET "SubjectStore" = substr("SubjectKind", 21), "SubjectKind" = 'reclaim' WHERE "SubjectKind" LIKE 'reclaiming of store %';"""
        );
        m.Sql(
            """UPDATE "Alerts" SET "SubjectStore" = substr("SubjectKind", 7), "SubjectKind" = 'store' WHERE "SubjectKind" LIKE 'store %';"""
        );
        m.Sql(
            """UPDATE "Alerts" SET "SubjectName" = substr("SubjectKind", 9), "SubjectKind" = 'channel' WHERE "SubjectKind" LIKE 'channel %';"""
        );
        m.Sql(
            """UPDATE "Alerts" SET "SubjectMachine" = substr("SubjectKind", 9), "SubjectKind" = 'machine' WHERE "SubjectKind" LIKE 'machine %';"""
        );
        m.Sql(
            """UPDATE "Alerts" SET "SubjectMachine" = substr("SubjectKind", 14), "SubjectKind" = 'clock' WHERE "SubjectKind" LIKE 'the clock of %';"""
        );
        m.Sql(
            """UPDATE "Alerts" SET "SubjectName" = "SubjectKind", "SubjectKind" = 'service' WHERE "SubjectKind" NOT IN ('job', 'prune', 'reclaim', 'store', 'channel', 'machine', 'clock');"""
        );
    }
}
