using Microsoft.EntityFrameworkCore.Migrations;

#nullable disable

namespace IronKeep.Catalogue.Sqlite.Migrations
{
    /// <inheritdoc />
    public partial class WholeLoop : Migration
    {
        /// <inheritdoc />
        protected override void Up(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.AddColumn<int>(
                name: "Attempt",
                table: "Runs",
                type: "INTEGER",
                nullable: false,
                defaultValue: 0);

            migrationBuilder.AddColumn<long>(
                name: "ConfirmedAt",
                table: "Runs",
                type: "INTEGER",
                nullable: true);

            migrationBuilder.AddColumn<string>(
                name: "CopyIds",
                table: "Runs",
                type: "TEXT",
                nullable: false,
                defaultValue: "");

            // A run's one copy becomes the first of its copies.
            migrationBuilder.Sql("UPDATE Runs SET CopyIds = CopyId WHERE CopyId IS NOT NULL");
            migrationBuilder.Sql("ALTER TABLE Runs DROP COLUMN CopyId");
            migrationBuilder.AddColumn<string>(name: "ConfirmedBy", table: "Runs", type: "TEXT", nullable: true);

            migrationBuilder.AddColumn<long>(
                name: "NotBefore",
                table: "Runs",
                type: "INTEGER",
                nullable: true);

            migrationBuilder.AddColumn<string>(
                name: "ConfirmedBy",
                table: "PrunePlans",
                type: "TEXT",
                nullable: true);

            migrationBuilder.AddColumn<string>(
                name: "ConfirmedReason",
                table: "PrunePlans",
                type: "TEXT",
                nullable: true);

            migrationBuilder.AddColumn<long>(
                name: "MadeUpBy",
                table: "PlannedRuns",
                type: "INTEGER",
                nullable: true);

            migrationBuilder.AddColumn<long>(
                name: "BaseRunId",
                table: "JobWatches",
                type: "INTEGER",
                nullable: false,
                defaultValue: 0L);

            migrationBuilder.AddColumn<long>(
                name: "PausedAt",
                table: "JobWatches",
                type: "INTEGER",
                nullable: true);

            migrationBuilder.AddColumn<string>(
                name: "PausedBy",
                table: "JobWatches",
                type: "TEXT",
                nullable: true);

            migrationBuilder.AddColumn<string>(
                name: "PausedReason",
                table: "JobWatches",
                type: "TEXT",
                nullable: true);

            migrationBuilder.AddColumn<long>(
                name: "PausedUntil",
                table: "JobWatches",
                type: "INTEGER",
                nullable: true);

            migrationBuilder.AddColumn<long>(
                name: "ResumeAt",
                table: "JobWatches",
                type: "INTEGER",
                nullable: true);

            migrationBuilder.AddColumn<long>(
                name: "Since",
                table: "JobWatches",
                type: "INTEGER",
                nullable: false,
                defaultValue: 0L);

            migrationBuilder.AddColumn<string>(
                name: "Doubt",
                table: "Copies",
                type: "TEXT",
                nullable: true);

            migrationBuilder.AddColumn<string>(
                name: "HeldBy",
                table: "Copies",
                type: "TEXT",
                nullable: true);

            migrationBuilder.AddColumn<string>(
                name: "HeldReason",
                table: "Copies",
                type: "TEXT",
                nullable: true);

            migrationBuilder.AddColumn<long>(
                name: "HeldUntil",
                table: "Copies",
                type: "INTEGER",
                nullable: true);

            migrationBuilder.AddColumn<long>(
                name: "RunId",
                table: "Copies",
                type: "INTEGER",
                nullable: true);

            migrationBuilder.AddColumn<string>(
                name: "Affected",
                table: "Alerts",
                type: "TEXT",
                nullable: false,
                defaultValue: "");

            migrationBuilder.AddColumn<long>(
                name: "ToldAt",
                table: "Alerts",
                type: "INTEGER",
                nullable: true);

            migrationBuilder.CreateTable(
                name: "Messages",
                columns: table => new
                {
                    Id = table.Column<long>(type: "INTEGER", nullable: false)
                        .Annotation("Sqlite:Autoincrement", true),
                    Channel = table.Column<string>(type: "TEXT", nullable: false),
                    Subject = table.Column<string>(type: "TEXT", nullable: false),
                    Body = table.Column<string>(type: "TEXT", nullable: false),
                    Type = table.Column<string>(type: "TEXT", nullable: false),
                    Data = table.Column<string>(type: "TEXT", nullable: false),
                    MadeAt = table.Column<long>(type: "INTEGER", nullable: false),
                    NextAt = table.Column<long>(type: "INTEGER", nullable: false),
                    Attempts = table.Column<int>(type: "INTEGER", nullable: false),
                    EndedAt = table.Column<long>(type: "INTEGER", nullable: true),
                    Sent = table.Column<bool>(type: "INTEGER", nullable: false),
                    Problem = table.Column<string>(type: "TEXT", nullable: true)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Messages", x => x.Id);
                });

            migrationBuilder.CreateTable(
                name: "Notes",
                columns: table => new
                {
                    Key = table.Column<string>(type: "TEXT", nullable: false),
                    Value = table.Column<string>(type: "TEXT", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Notes", x => x.Key);
                });

            migrationBuilder.CreateTable(
                name: "PackReads",
                columns: table => new
                {
                    Store = table.Column<string>(type: "TEXT", nullable: false),
                    Pack = table.Column<string>(type: "TEXT", nullable: false),
                    At = table.Column<long>(type: "INTEGER", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_PackReads", x => new { x.Store, x.Pack });
                });

            migrationBuilder.CreateTable(
                name: "StoreWatches",
                columns: table => new
                {
                    Store = table.Column<string>(type: "TEXT", nullable: false),
                    What = table.Column<string>(type: "TEXT", nullable: false),
                    Watermark = table.Column<long>(type: "INTEGER", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_StoreWatches", x => new { x.Store, x.What });
                });

            migrationBuilder.CreateIndex(
                name: "IX_PlannedRuns_Open",
                table: "PlannedRuns",
                column: "Id",
                filter: "\"Outcome\" IS NULL");

            migrationBuilder.CreateIndex(
                name: "IX_Messages_NextAt",
                table: "Messages",
                column: "NextAt",
                filter: "\"EndedAt\" IS NULL");
        }

        /// <inheritdoc />
        protected override void Down(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.DropTable(
                name: "Messages");

            migrationBuilder.DropTable(
                name: "Notes");

            migrationBuilder.DropTable(
                name: "PackReads");

            migrationBuilder.DropTable(
                name: "StoreWatches");

            migrationBuilder.DropIndex(
                name: "IX_PlannedRuns_Open",
                table: "PlannedRuns");

            migrationBuilder.DropColumn(
                name: "Attempt",
                table: "Runs");

            migrationBuilder.DropColumn(
                name: "ConfirmedAt",
                table: "Runs");

            migrationBuilder.DropColumn(
                name: "CopyIds",
                table: "Runs");

            migrationBuilder.DropColumn(
                name: "NotBefore",
                table: "Runs");

            migrationBuilder.DropColumn(
                name: "ConfirmedBy",
                table: "PrunePlans");

            migrationBuilder.DropColumn(
                name: "ConfirmedReason",
                table: "PrunePlans");

            migrationBuilder.DropColumn(
                name: "MadeUpBy",
                table: "PlannedRuns");

            migrationBuilder.DropColumn(
                name: "BaseRunId",
                table: "JobWatches");

            migrationBuilder.DropColumn(
                name: "PausedAt",
                table: "JobWatches");

            migrationBuilder.DropColumn(
                name: "PausedBy",
                table: "JobWatches");

            migrationBuilder.DropColumn(
                name: "PausedReason",
                table: "JobWatches");

            migrationBuilder.DropColumn(
                name: "PausedUntil",
                table: "JobWatches");

            migrationBuilder.DropColumn(
                name: "ResumeAt",
                table: "JobWatches");

            migrationBuilder.DropColumn(
                name: "Since",
                table: "JobWatches");

            migrationBuilder.DropColumn(
                name: "Doubt",
                table: "Copies");

            migrationBuilder.DropColumn(
                name: "HeldBy",
                table: "Copies");

            migrationBuilder.DropColumn(
                name: "HeldReason",
                table: "Copies");

            migrationBuilder.DropColumn(
                name: "HeldUntil",
                table: "Copies");

            migrationBuilder.DropColumn(
                name: "RunId",
                table: "Copies");

            migrationBuilder.DropColumn(
                name: "Affected",
                table: "Alerts");

            migrationBuilder.DropColumn(
                name: "ToldAt",
                table: "Alerts");

            migrationBuilder.Sql("ALTER TABLE Runs DROP COLUMN ConfirmedBy");
            migrationBuilder.AddColumn<string>(name: "CopyId", table: "Runs", type: "TEXT", nullable: true);
        }
    }
}
