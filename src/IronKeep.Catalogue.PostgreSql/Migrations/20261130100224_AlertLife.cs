using Microsoft.EntityFrameworkCore.Migrations;
using Npgsql.EntityFrameworkCore.PostgreSQL.Metadata;

#nullable disable

namespace IronKeep.Catalogue.PostgreSql.Migrations
{
    /// <inheritdoc />
    public partial class AlertLife : Migration
    {
        /// <inheritdoc />
        protected override void Up(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.AddColumn<string>(
                name: "KnownBy",
                table: "Alerts",
                type: "text",
                nullable: true,
                collation: "C");

            migrationBuilder.AddColumn<string>(
                name: "KnownReason",
                table: "Alerts",
                type: "text",
                nullable: true,
                collation: "C");

            migrationBuilder.AddColumn<long>(
                name: "KnownUntil",
                table: "Alerts",
                type: "bigint",
                nullable: true);

            migrationBuilder.AddColumn<string>(
                name: "Severity",
                table: "Alerts",
                type: "text",
                nullable: false,
                defaultValue: "failure");

            migrationBuilder.CreateTable(
                name: "AlertDeeds",
                columns: table => new
                {
                    Id = table.Column<long>(type: "bigint", nullable: false)
                        .Annotation("Npgsql:ValueGenerationStrategy", NpgsqlValueGenerationStrategy.IdentityByDefaultColumn),
                    AlertId = table.Column<long>(type: "bigint", nullable: false),
                    At = table.Column<long>(type: "bigint", nullable: false),
                    Kind = table.Column<string>(type: "text", nullable: false),
                    By = table.Column<string>(type: "text", nullable: true, collation: "C"),
                    Words = table.Column<string>(type: "text", nullable: true, collation: "C"),
                    RunId = table.Column<long>(type: "bigint", nullable: true)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_AlertDeeds", x => x.Id);
                });

            migrationBuilder.CreateIndex(
                name: "IX_AlertDeeds_AlertId_Id",
                table: "AlertDeeds",
                columns: new[] { "AlertId", "Id" });
        }

        /// <inheritdoc />
        protected override void Down(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.DropTable(
                name: "AlertDeeds");

            migrationBuilder.DropColumn(
                name: "KnownBy",
                table: "Alerts");

            migrationBuilder.DropColumn(
                name: "KnownReason",
                table: "Alerts");

            migrationBuilder.DropColumn(
                name: "KnownUntil",
                table: "Alerts");

            migrationBuilder.DropColumn(
                name: "Severity",
                table: "Alerts");
        }
    }
}
