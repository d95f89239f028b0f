using Microsoft.EntityFrameworkCore.Migrations;
using Npgsql.EntityFrameworkCore.PostgreSQL.Metadata;

#nullable disable

namespace IronKeep.Catalogue.PostgreSql.Migrations
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
                type: "text",
                nullable: true,
                collation: "C");

            migrationBuilder.AddColumn<int>(
                name: "ExitCode",
                table: "Runs",
                type: "integer",
                nullable: true);

            migrationBuilder.CreateTable(
                name: "CheckInAddresses",
                columns: table => new
                {
                    Id = table.Column<long>(type: "bigint", nullable: false)
                        .Annotation("Npgsql:ValueGenerationStrategy", NpgsqlValueGenerationStrategy.IdentityByDefaultColumn),
                    Job = table.Column<string>(type: "text", nullable: false, collation: "C"),
                    Machine = table.Column<string>(type: "text", nullable: false, collation: "C"),
                    Hash = table.Column<byte[]>(type: "bytea", nullable: false),
                    MadeBy = table.Column<string>(type: "text", nullable: false, collation: "C"),
                    MadeAt = table.Column<long>(type: "bigint", nullable: false),
                    LastHeardAt = table.Column<long>(type: "bigint", nullable: true)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_CheckInAddresses", x => x.Id);
                });

            migrationBuilder.CreateTable(
                name: "TakenReports",
                columns: table => new
                {
                    Id = table.Column<string>(type: "text", nullable: false, collation: "C"),
                    At = table.Column<long>(type: "bigint", nullable: false),
                    RunId = table.Column<long>(type: "bigint", nullable: false)
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
