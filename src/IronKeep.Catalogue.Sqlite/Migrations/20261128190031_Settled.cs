using Microsoft.EntityFrameworkCore.Migrations;

#nullable disable

namespace IronKeep.Catalogue.Sqlite.Migrations
{
    /// <inheritdoc />
    public partial class Settled : Migration
    {
        /// <inheritdoc />
        protected override void Up(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.AddColumn<string>(
                name: "Brief",
                table: "Runs",
                type: "TEXT",
                nullable: true);

            migrationBuilder.AddColumn<string>(
                name: "FailedStore",
                table: "Runs",
                type: "TEXT",
                nullable: true);

            migrationBuilder.AddColumn<bool>(
                name: "Followed",
                table: "Runs",
                type: "INTEGER",
                nullable: false,
                defaultValue: true);

            migrationBuilder.AddColumn<double>(
                name: "TookSeconds",
                table: "Runs",
                type: "REAL",
                nullable: true);

            migrationBuilder.AddColumn<int>(
                name: "Times",
                table: "PlannedRuns",
                type: "INTEGER",
                nullable: false,
                defaultValue: 1);

            migrationBuilder.AddColumn<bool>(
                name: "Told",
                table: "PlannedRuns",
                type: "INTEGER",
                nullable: false,
                defaultValue: true);

            migrationBuilder.AddColumn<long>(
                name: "Until",
                table: "PlannedRuns",
                type: "INTEGER",
                nullable: true);

            migrationBuilder.AddColumn<bool>(
                name: "NoteDue",
                table: "Copies",
                type: "INTEGER",
                nullable: false,
                defaultValue: false);

            migrationBuilder.AddColumn<long>(
                name: "NotedAt",
                table: "Copies",
                type: "INTEGER",
                nullable: true);

            migrationBuilder.AddColumn<string>(
                name: "ClosedBy",
                table: "Alerts",
                type: "TEXT",
                nullable: true);

            migrationBuilder.AddColumn<string>(
                name: "ClosedReason",
                table: "Alerts",
                type: "TEXT",
                nullable: true);

            migrationBuilder.CreateTable(
                name: "Sessions",
                columns: table => new
                {
                    Id = table.Column<string>(type: "TEXT", nullable: false),
                    PersonId = table.Column<int>(type: "INTEGER", nullable: false),
                    Address = table.Column<string>(type: "TEXT", nullable: false),
                    Program = table.Column<string>(type: "TEXT", nullable: false),
                    MadeAt = table.Column<long>(type: "INTEGER", nullable: false),
                    SeenAt = table.Column<long>(type: "INTEGER", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Sessions", x => x.Id);
                    table.ForeignKey(
                        name: "FK_Sessions_People_PersonId",
                        column: x => x.PersonId,
                        principalTable: "People",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                });

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
                name: "IX_Sessions_PersonId",
                table: "Sessions",
                column: "PersonId");
        
            // What the catalogue alone knew until now is told to the stores.
            migrationBuilder.Sql("UPDATE \"Copies\" SET \"NoteDue\" = 1 WHERE \"GoneAt\" IS NULL AND (\"HeldBy\" IS NOT NULL OR \"Doubt\" IS NOT NULL OR \"State\" = 'unsound' OR \"BinnedAt\" IS NOT NULL)");
        }

        /// <inheritdoc />
        protected override void Down(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.DropTable(
                name: "Sessions");

            migrationBuilder.DropIndex(
                name: "IX_Runs_Unfollowed",
                table: "Runs");

            migrationBuilder.DropIndex(
                name: "IX_PlannedRuns_Untold",
                table: "PlannedRuns");

            migrationBuilder.DropColumn(
                name: "Brief",
                table: "Runs");

            migrationBuilder.DropColumn(
                name: "FailedStore",
                table: "Runs");

            migrationBuilder.DropColumn(
                name: "Followed",
                table: "Runs");

            migrationBuilder.DropColumn(
                name: "TookSeconds",
                table: "Runs");

            migrationBuilder.DropColumn(
                name: "Times",
                table: "PlannedRuns");

            migrationBuilder.DropColumn(
                name: "Told",
                table: "PlannedRuns");

            migrationBuilder.DropColumn(
                name: "Until",
                table: "PlannedRuns");

            migrationBuilder.DropColumn(
                name: "NoteDue",
                table: "Copies");

            migrationBuilder.DropColumn(
                name: "NotedAt",
                table: "Copies");

            migrationBuilder.DropColumn(
                name: "ClosedBy",
                table: "Alerts");

            migrationBuilder.DropColumn(
                name: "ClosedReason",
                table: "Alerts");
        }
    }
}
