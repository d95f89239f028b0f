using Microsoft.EntityFrameworkCore.Migrations;

#nullable disable

namespace IronKeep.Catalogue.Sqlite.Migrations
{
    /// <inheritdoc />
    public partial class Seams : Migration
    {
        /// <inheritdoc />
        protected override void Up(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.CreateTable(
                name: "Facts",
                columns: table => new
                {
                    Id = table.Column<long>(type: "INTEGER", nullable: false)
                        .Annotation("Sqlite:Autoincrement", true),
                    At = table.Column<long>(type: "INTEGER", nullable: false),
                    Kind = table.Column<string>(type: "TEXT", nullable: false),
                    Job = table.Column<string>(type: "TEXT", nullable: true),
                    Machine = table.Column<string>(type: "TEXT", nullable: true),
                    Store = table.Column<string>(type: "TEXT", nullable: true),
                    CopyId = table.Column<string>(type: "TEXT", nullable: true),
                    RunId = table.Column<long>(type: "INTEGER", nullable: true),
                    PlannedRunId = table.Column<long>(type: "INTEGER", nullable: true),
                    Due = table.Column<long>(type: "INTEGER", nullable: true),
                    AlertId = table.Column<long>(type: "INTEGER", nullable: true),
                    Word = table.Column<string>(type: "TEXT", nullable: true),
                    Count = table.Column<int>(type: "INTEGER", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Facts", x => x.Id);
                });

            SeamsWords.SayWhatIsLeft(migrationBuilder);

            migrationBuilder.DropIndex(
                name: "IX_Runs_Unfollowed",
                table: "Runs");

            migrationBuilder.DropIndex(
                name: "IX_PlannedRuns_Untold",
                table: "PlannedRuns");

            migrationBuilder.DropPrimaryKey(
                name: "PK_Copies",
                table: "Copies");

            migrationBuilder.DropIndex(
                name: "IX_Alerts_State",
                table: "Alerts");

            migrationBuilder.DropIndex(
                name: "IX_Alerts_Subject_Class",
                table: "Alerts");

            migrationBuilder.DropColumn(
                name: "Followed",
                table: "Runs");

            migrationBuilder.DropColumn(
                name: "Told",
                table: "PlannedRuns");

            migrationBuilder.RenameColumn(
                name: "Cause",
                table: "Runs",
                newName: "ByKind");

            migrationBuilder.RenameColumn(
                name: "Subject",
                table: "Alerts",
                newName: "SubjectKind");

            migrationBuilder.AddColumn<string>(
                name: "ByName",
                table: "Runs",
                type: "TEXT",
                nullable: true);

            migrationBuilder.AddColumn<long>(
                name: "ByRunId",
                table: "Runs",
                type: "INTEGER",
                nullable: true);

            migrationBuilder.AddColumn<long>(
                name: "ExpectedBytes",
                table: "Runs",
                type: "INTEGER",
                nullable: true);

            migrationBuilder.AddColumn<long>(
                name: "ExpectedItems",
                table: "Runs",
                type: "INTEGER",
                nullable: true);

            migrationBuilder.AddColumn<double>(
                name: "Rate",
                table: "Runs",
                type: "REAL",
                nullable: true);

            migrationBuilder.AddColumn<string>(
                name: "StopAsked",
                table: "Runs",
                type: "TEXT",
                nullable: true);

            migrationBuilder.AddColumn<string>(
                name: "Worker",
                table: "Runs",
                type: "TEXT",
                nullable: true);

            migrationBuilder.AddColumn<string>(
                name: "Stand",
                table: "PlannedRuns",
                type: "TEXT",
                nullable: true);

            migrationBuilder.AddColumn<string>(
                name: "Origin",
                table: "Copies",
                type: "TEXT",
                nullable: false,
                defaultValue: "");

            migrationBuilder.AddColumn<string>(
                name: "SubjectJob",
                table: "Alerts",
                type: "TEXT",
                nullable: true);

            migrationBuilder.AddColumn<string>(
                name: "SubjectMachine",
                table: "Alerts",
                type: "TEXT",
                nullable: true);

            migrationBuilder.AddColumn<string>(
                name: "SubjectName",
                table: "Alerts",
                type: "TEXT",
                nullable: true);

            migrationBuilder.AddColumn<string>(
                name: "SubjectStore",
                table: "Alerts",
                type: "TEXT",
                nullable: true);

            migrationBuilder.AddPrimaryKey(
                name: "PK_Copies",
                table: "Copies",
                columns: new[] { "Id", "Store" });

            migrationBuilder.CreateTable(
                name: "FollowerPositions",
                columns: table => new
                {
                    Name = table.Column<string>(type: "TEXT", nullable: false),
                    Position = table.Column<long>(type: "INTEGER", nullable: false),
                    Problem = table.Column<string>(type: "TEXT", nullable: true)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_FollowerPositions", x => x.Name);
                });

            migrationBuilder.CreateTable(
                name: "HangingRuns",
                columns: table => new
                {
                    RunId = table.Column<long>(type: "INTEGER", nullable: false),
                    Worker = table.Column<string>(type: "TEXT", nullable: false),
                    Job = table.Column<string>(type: "TEXT", nullable: true),
                    Machine = table.Column<string>(type: "TEXT", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_HangingRuns", x => x.RunId);
                });

            migrationBuilder.CreateTable(
                name: "Leases",
                columns: table => new
                {
                    Name = table.Column<string>(type: "TEXT", nullable: false),
                    Worker = table.Column<string>(type: "TEXT", nullable: false),
                    Term = table.Column<long>(type: "INTEGER", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Leases", x => x.Name);
                });

            migrationBuilder.CreateTable(
                name: "LogLines",
                columns: table => new
                {
                    RunId = table.Column<long>(type: "INTEGER", nullable: false),
                    Line = table.Column<int>(type: "INTEGER", nullable: false),
                    At = table.Column<long>(type: "INTEGER", nullable: false),
                    Severity = table.Column<string>(type: "TEXT", nullable: false),
                    Text = table.Column<string>(type: "TEXT", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_LogLines", x => new { x.RunId, x.Line });
                });

            migrationBuilder.CreateTable(
                name: "RoomPromises",
                columns: table => new
                {
                    RunId = table.Column<long>(type: "INTEGER", nullable: false),
                    Store = table.Column<string>(type: "TEXT", nullable: false),
                    Bytes = table.Column<long>(type: "INTEGER", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_RoomPromises", x => new { x.RunId, x.Store });
                });

            migrationBuilder.CreateTable(
                name: "SealingKeys",
                columns: table => new
                {
                    Name = table.Column<string>(type: "TEXT", nullable: false),
                    Xml = table.Column<string>(type: "TEXT", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_SealingKeys", x => x.Name);
                });

            migrationBuilder.CreateTable(
                name: "Workers",
                columns: table => new
                {
                    Id = table.Column<string>(type: "TEXT", nullable: false),
                    Host = table.Column<string>(type: "TEXT", nullable: false),
                    ProcessId = table.Column<int>(type: "INTEGER", nullable: false),
                    Address = table.Column<string>(type: "TEXT", nullable: false),
                    BegunAt = table.Column<long>(type: "INTEGER", nullable: false),
                    BeatAt = table.Column<long>(type: "INTEGER", nullable: false),
                    Gone = table.Column<bool>(type: "INTEGER", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Workers", x => x.Id);
                });

            migrationBuilder.CreateIndex(
                name: "IX_Runs_PlannedRunId",
                table: "Runs",
                column: "PlannedRunId");

            migrationBuilder.CreateIndex(
                name: "IX_Runs_Store_Kind_Id",
                table: "Runs",
                columns: new[] { "Store", "Kind", "Id" });

            migrationBuilder.CreateIndex(
                name: "IX_PrunePlans_Job_Store_AppliedAt",
                table: "PrunePlans",
                columns: new[] { "Job", "Store", "AppliedAt" });

            migrationBuilder.CreateIndex(
                name: "IX_PlannedRuns_Until",
                table: "PlannedRuns",
                column: "Until",
                filter: "\"Until\" IS NOT NULL");

            migrationBuilder.CreateIndex(
                name: "IX_Copies_Origin",
                table: "Copies",
                column: "Origin");

            migrationBuilder.CreateIndex(
                name: "IX_Copies_RunId",
                table: "Copies",
                column: "RunId");

            migrationBuilder.CreateIndex(
                name: "IX_Alerts_Class_SubjectKind_SubjectJob_SubjectStore_Id",
                table: "Alerts",
                columns: new[] { "Class", "SubjectKind", "SubjectJob", "SubjectStore", "Id" });

            migrationBuilder.CreateIndex(
                name: "IX_Alerts_State",
                table: "Alerts",
                column: "State",
                filter: "\"State\" <> 'closed'");

            SeamsWords.TakeApart(migrationBuilder);
        }

        /// <inheritdoc />
        protected override void Down(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.DropTable(
                name: "Facts");

            migrationBuilder.DropTable(
                name: "FollowerPositions");

            migrationBuilder.DropTable(
                name: "HangingRuns");

            migrationBuilder.DropTable(
                name: "Leases");

            migrationBuilder.DropTable(
                name: "LogLines");

            migrationBuilder.DropTable(
                name: "RoomPromises");

            migrationBuilder.DropTable(
                name: "SealingKeys");

            migrationBuilder.DropTable(
                name: "Workers");

            migrationBuilder.DropIndex(
                name: "IX_Runs_PlannedRunId",
                table: "Runs");

            migrationBuilder.DropIndex(
                name: "IX_Runs_Store_Kind_Id",
                table: "Runs");

            migrationBuilder.DropIndex(
                name: "IX_PrunePlans_Job_Store_AppliedAt",
                table: "PrunePlans");

            migrationBuilder.DropIndex(
                name: "IX_PlannedRuns_Until",
                table: "PlannedRuns");

            migrationBuilder.DropPrimaryKey(
                name: "PK_Copies",
                table: "Copies");

            migrationBuilder.DropIndex(
                name: "IX_Copies_Origin",
                table: "Copies");

            migrationBuilder.DropIndex(
                name: "IX_Copies_RunId",
                table: "Copies");

            migrationBuilder.DropIndex(
                name: "IX_Alerts_Class_SubjectKind_SubjectJob_SubjectStore_Id",
                table: "Alerts");

            migrationBuilder.DropIndex(
                name: "IX_Alerts_State",
                table: "Alerts");

            migrationBuilder.DropColumn(
                name: "ByName",
                table: "Runs");

            migrationBuilder.DropColumn(
                name: "ByRunId",
                table: "Runs");

            migrationBuilder.DropColumn(
                name: "ExpectedBytes",
                table: "Runs");

            migrationBuilder.DropColumn(
                name: "ExpectedItems",
                table: "Runs");

            migrationBuilder.DropColumn(
                name: "Rate",
                table: "Runs");

            migrationBuilder.DropColumn(
                name: "StopAsked",
                table: "Runs");

            migrationBuilder.DropColumn(
                name: "Worker",
                table: "Runs");

            migrationBuilder.DropColumn(
                name: "Stand",
                table: "PlannedRuns");

            migrationBuilder.DropColumn(
                name: "Origin",
                table: "Copies");

            migrationBuilder.DropColumn(
                name: "SubjectJob",
                table: "Alerts");

            migrationBuilder.DropColumn(
                name: "SubjectMachine",
                table: "Alerts");

            migrationBuilder.DropColumn(
                name: "SubjectName",
                table: "Alerts");

            migrationBuilder.DropColumn(
                name: "SubjectStore",
                table: "Alerts");

            migrationBuilder.RenameColumn(
                name: "ByKind",
                table: "Runs",
                newName: "Cause");

            migrationBuilder.RenameColumn(
                name: "SubjectKind",
                table: "Alerts",
                newName: "Subject");

            migrationBuilder.AddColumn<bool>(
                name: "Followed",
                table: "Runs",
                type: "INTEGER",
                nullable: false,
                defaultValue: true);

            migrationBuilder.AddColumn<bool>(
                name: "Told",
                table: "PlannedRuns",
                type: "INTEGER",
                nullable: false,
                defaultValue: true);

            migrationBuilder.AddPrimaryKey(
                name: "PK_Copies",
                table: "Copies",
                column: "Id");

            migrationBuilder.CreateIndex(
                name: "IX_Runs_Unfollowed",
                table: "Runs",
                column: "Id",
                filter: "\"Followed\" = 0");

            migrationBuilder.CreateIndex(
                name: "IX_PlannedRuns_Untold",
                table: "PlannedRuns",
                column: "Id",
                filter: "\"Told\" = 0");

            migrationBuilder.CreateIndex(
                name: "IX_Alerts_State",
                table: "Alerts",
                column: "State");

            migrationBuilder.CreateIndex(
                name: "IX_Alerts_Subject_Class",
                table: "Alerts",
                columns: new[] { "Subject", "Class" });
        }
    }
}
