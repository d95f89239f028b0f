using Microsoft.EntityFrameworkCore.Migrations;

#nullable disable

namespace IronKeep.Catalogue.Sqlite.Migrations
{
    /// <inheritdoc />
    public partial class Start : Migration
    {
        /// <inheritdoc />
        protected override void Up(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.CreateTable(
                name: "Alerts",
                columns: table => new
                {
                    Id = table.Column<long>(type: "INTEGER", nullable: false)
                        .Annotation("Sqlite:Autoincrement", true),
                    Subject = table.Column<string>(type: "TEXT", nullable: false),
                    Class = table.Column<string>(type: "TEXT", nullable: false),
                    State = table.Column<string>(type: "TEXT", nullable: false),
                    Message = table.Column<string>(type: "TEXT", nullable: false),
                    Remedy = table.Column<string>(type: "TEXT", nullable: false),
                    Count = table.Column<int>(type: "INTEGER", nullable: false),
                    OpenedAt = table.Column<long>(type: "INTEGER", nullable: false),
                    LastAt = table.Column<long>(type: "INTEGER", nullable: false),
                    AcknowledgedBy = table.Column<string>(type: "TEXT", nullable: true),
                    AcknowledgedAt = table.Column<long>(type: "INTEGER", nullable: true),
                    ClosedAt = table.Column<long>(type: "INTEGER", nullable: true),
                    RunId = table.Column<long>(type: "INTEGER", nullable: true)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Alerts", x => x.Id);
                });

            migrationBuilder.CreateTable(
                name: "CharterRevisions",
                columns: table => new
                {
                    Id = table.Column<long>(type: "INTEGER", nullable: false)
                        .Annotation("Sqlite:Autoincrement", true),
                    AppliedAt = table.Column<long>(type: "INTEGER", nullable: false),
                    By = table.Column<string>(type: "TEXT", nullable: false),
                    Yaml = table.Column<string>(type: "TEXT", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_CharterRevisions", x => x.Id);
                });

            migrationBuilder.CreateTable(
                name: "Copies",
                columns: table => new
                {
                    Id = table.Column<string>(type: "TEXT", nullable: false),
                    Job = table.Column<string>(type: "TEXT", nullable: false),
                    Machine = table.Column<string>(type: "TEXT", nullable: false),
                    Store = table.Column<string>(type: "TEXT", nullable: false),
                    Taken = table.Column<long>(type: "INTEGER", nullable: false),
                    Ended = table.Column<long>(type: "INTEGER", nullable: false),
                    State = table.Column<string>(type: "TEXT", nullable: false),
                    CheckedAt = table.Column<long>(type: "INTEGER", nullable: true),
                    BinnedAt = table.Column<long>(type: "INTEGER", nullable: true),
                    GoneAt = table.Column<long>(type: "INTEGER", nullable: true),
                    Items = table.Column<long>(type: "INTEGER", nullable: false),
                    Bytes = table.Column<long>(type: "INTEGER", nullable: false),
                    Skipped = table.Column<long>(type: "INTEGER", nullable: false),
                    NewBytes = table.Column<long>(type: "INTEGER", nullable: false),
                    StoredBytes = table.Column<long>(type: "INTEGER", nullable: false),
                    Damage = table.Column<string>(type: "TEXT", nullable: false),
                    DamageCount = table.Column<long>(type: "INTEGER", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Copies", x => x.Id);
                });

            migrationBuilder.CreateTable(
                name: "JobWatches",
                columns: table => new
                {
                    Job = table.Column<string>(type: "TEXT", nullable: false),
                    Machine = table.Column<string>(type: "TEXT", nullable: false),
                    Watermark = table.Column<long>(type: "INTEGER", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_JobWatches", x => new { x.Job, x.Machine });
                });

            migrationBuilder.CreateTable(
                name: "People",
                columns: table => new
                {
                    Id = table.Column<int>(type: "INTEGER", nullable: false)
                        .Annotation("Sqlite:Autoincrement", true),
                    Name = table.Column<string>(type: "TEXT", nullable: false),
                    PasswordHash = table.Column<string>(type: "TEXT", nullable: false),
                    MadeAt = table.Column<long>(type: "INTEGER", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_People", x => x.Id);
                });

            migrationBuilder.CreateTable(
                name: "PlannedRuns",
                columns: table => new
                {
                    Id = table.Column<long>(type: "INTEGER", nullable: false)
                        .Annotation("Sqlite:Autoincrement", true),
                    Job = table.Column<string>(type: "TEXT", nullable: false),
                    Machine = table.Column<string>(type: "TEXT", nullable: false),
                    Due = table.Column<long>(type: "INTEGER", nullable: false),
                    Outcome = table.Column<string>(type: "TEXT", nullable: true),
                    Reason = table.Column<string>(type: "TEXT", nullable: true),
                    RunId = table.Column<long>(type: "INTEGER", nullable: true)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_PlannedRuns", x => x.Id);
                });

            migrationBuilder.CreateTable(
                name: "PrunePlans",
                columns: table => new
                {
                    Fingerprint = table.Column<string>(type: "TEXT", nullable: false),
                    Job = table.Column<string>(type: "TEXT", nullable: false),
                    Machine = table.Column<string>(type: "TEXT", nullable: false),
                    Store = table.Column<string>(type: "TEXT", nullable: false),
                    AsOf = table.Column<long>(type: "INTEGER", nullable: false),
                    Body = table.Column<string>(type: "TEXT", nullable: false),
                    AppliedAt = table.Column<long>(type: "INTEGER", nullable: true)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_PrunePlans", x => x.Fingerprint);
                });

            migrationBuilder.CreateTable(
                name: "Runs",
                columns: table => new
                {
                    Id = table.Column<long>(type: "INTEGER", nullable: false)
                        .Annotation("Sqlite:Autoincrement", true),
                    Kind = table.Column<string>(type: "TEXT", nullable: false),
                    Job = table.Column<string>(type: "TEXT", nullable: true),
                    Machine = table.Column<string>(type: "TEXT", nullable: false),
                    Store = table.Column<string>(type: "TEXT", nullable: true),
                    PlannedRunId = table.Column<long>(type: "INTEGER", nullable: true),
                    Due = table.Column<long>(type: "INTEGER", nullable: true),
                    Cause = table.Column<string>(type: "TEXT", nullable: false),
                    State = table.Column<string>(type: "TEXT", nullable: false),
                    Outcome = table.Column<string>(type: "TEXT", nullable: true),
                    Failure = table.Column<string>(type: "TEXT", nullable: true),
                    Sentence = table.Column<string>(type: "TEXT", nullable: true),
                    Queued = table.Column<long>(type: "INTEGER", nullable: false),
                    Began = table.Column<long>(type: "INTEGER", nullable: true),
                    Ended = table.Column<long>(type: "INTEGER", nullable: true),
                    Order = table.Column<string>(type: "TEXT", nullable: true),
                    CopyId = table.Column<string>(type: "TEXT", nullable: true),
                    Items = table.Column<long>(type: "INTEGER", nullable: false),
                    SelectedBytes = table.Column<long>(type: "INTEGER", nullable: false),
                    ReadBytes = table.Column<long>(type: "INTEGER", nullable: false),
                    NewBytes = table.Column<long>(type: "INTEGER", nullable: false),
                    StoredBytes = table.Column<long>(type: "INTEGER", nullable: false),
                    Skipped = table.Column<long>(type: "INTEGER", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Runs", x => x.Id);
                });

            migrationBuilder.CreateTable(
                name: "Tokens",
                columns: table => new
                {
                    Id = table.Column<long>(type: "INTEGER", nullable: false)
                        .Annotation("Sqlite:Autoincrement", true),
                    PersonId = table.Column<int>(type: "INTEGER", nullable: false),
                    Label = table.Column<string>(type: "TEXT", nullable: false),
                    Hash = table.Column<byte[]>(type: "BLOB", nullable: false),
                    MadeAt = table.Column<long>(type: "INTEGER", nullable: false),
                    LastUsedAt = table.Column<long>(type: "INTEGER", nullable: true)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Tokens", x => x.Id);
                    table.ForeignKey(
                        name: "FK_Tokens_People_PersonId",
                        column: x => x.PersonId,
                        principalTable: "People",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                });

            migrationBuilder.CreateIndex(
                name: "IX_Alerts_State",
                table: "Alerts",
                column: "State");

            migrationBuilder.CreateIndex(
                name: "IX_Alerts_Subject_Class",
                table: "Alerts",
                columns: new[] { "Subject", "Class" });

            migrationBuilder.CreateIndex(
                name: "IX_Copies_Job_Machine_Taken",
                table: "Copies",
                columns: new[] { "Job", "Machine", "Taken" });

            migrationBuilder.CreateIndex(
                name: "IX_Copies_Store_Taken",
                table: "Copies",
                columns: new[] { "Store", "Taken" });

            migrationBuilder.CreateIndex(
                name: "IX_Copies_Taken",
                table: "Copies",
                column: "Taken");

            migrationBuilder.CreateIndex(
                name: "IX_People_Name",
                table: "People",
                column: "Name",
                unique: true);

            migrationBuilder.CreateIndex(
                name: "IX_PlannedRuns_Due",
                table: "PlannedRuns",
                column: "Due");

            migrationBuilder.CreateIndex(
                name: "IX_PlannedRuns_Job_Machine_Due",
                table: "PlannedRuns",
                columns: new[] { "Job", "Machine", "Due" },
                unique: true);

            migrationBuilder.CreateIndex(
                name: "IX_Runs_Job_Id",
                table: "Runs",
                columns: new[] { "Job", "Id" });

            migrationBuilder.CreateIndex(
                name: "IX_Runs_Queued",
                table: "Runs",
                column: "Queued");

            migrationBuilder.CreateIndex(
                name: "IX_Runs_State",
                table: "Runs",
                column: "State",
                filter: "\"State\" <> 'ended'");

            migrationBuilder.CreateIndex(
                name: "IX_Tokens_Hash",
                table: "Tokens",
                column: "Hash",
                unique: true);

            migrationBuilder.CreateIndex(
                name: "IX_Tokens_PersonId",
                table: "Tokens",
                column: "PersonId");
        }

        /// <inheritdoc />
        protected override void Down(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.DropTable(
                name: "Alerts");

            migrationBuilder.DropTable(
                name: "CharterRevisions");

            migrationBuilder.DropTable(
                name: "Copies");

            migrationBuilder.DropTable(
                name: "JobWatches");

            migrationBuilder.DropTable(
                name: "PlannedRuns");

            migrationBuilder.DropTable(
                name: "PrunePlans");

            migrationBuilder.DropTable(
                name: "Runs");

            migrationBuilder.DropTable(
                name: "Tokens");

            migrationBuilder.DropTable(
                name: "People");
        }
    }
}
