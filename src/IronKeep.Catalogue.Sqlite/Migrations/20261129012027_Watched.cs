using Microsoft.EntityFrameworkCore.Migrations;

#nullable disable

namespace IronKeep.Catalogue.Sqlite.Migrations
{
    /// <inheritdoc />
    public partial class Watched : Migration
    {
        /// <inheritdoc />
        protected override void Up(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.AddColumn<string>(
                name: "Evidence",
                table: "Runs",
                type: "TEXT",
                nullable: true);

            migrationBuilder.AddColumn<int>(
                name: "ExitCode",
                table: "Runs",
                type: "INTEGER",
                nullable: true);

            migrationBuilder.CreateTable(
                name: "CheckInAddresses",
                columns: table => new
                {
                    Id = table.Column<long>(type: "INTEGER", nullable: false)
                        .Annotation("Sqlite:Autoincrement", true),
                    Job = table.Column<string>(type: "TEXT", nullable: false),
                    Machine = table.Column<string>(type: "TEXT", nullable: false),
                    Hash = table.Column<byte[]>(type: "BLOB", nullable: false),
                    MadeBy = table.Column<string>(type: "TEXT", nullable: false),
                    MadeAt = table.Column<long>(type: "INTEGER", nullable: false),
                    LastHeardAt = table.Column<long>(type: "INTEGER", nullable: true)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_CheckInAddresses", x => x.Id);
                });

            migrationBuilder.CreateTable(
                name: "TakenReports",
                columns: table => new
                {
                    Id = table.Column<string>(type: "TEXT", nullable: false),
                    At = table.Column<long>(type: "INTEGER", nullable: false),
                    RunId = table.Column<long>(type: "INTEGER", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_TakenReports", x => x.Id);
                });

            migrationBuilder.CreateIndex(
                name: "IX_CheckInAddresses_Hash",
                table: "CheckInAddresses",
                column: "Hash",
                unique: true);

            migrationBuilder.CreateIndex(
                name: "IX_CheckInAddresses_Job_Machine",
                table: "CheckInAddresses",
                columns: new[] { "Job", "Machine" },
                unique: true);

            migrationBuilder.CreateIndex(
                name: "IX_TakenReports_At",
                table: "TakenReports",
                column: "At");
        }

        /// <inheritdoc />
        protected override void Down(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.DropTable(
                name: "CheckInAddresses");

            migrationBuilder.DropTable(
                name: "TakenReports");

            migrationBuilder.DropColumn(
                name: "Evidence",
                table: "Runs");

            migrationBuilder.DropColumn(
                name: "ExitCode",
                table: "Runs");
        }
    }
}
