using Microsoft.EntityFrameworkCore.Migrations;

#nullable disable

namespace IronKeep.Catalogue.Sqlite.Migrations
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
                type: "TEXT",
                nullable: true);

            migrationBuilder.AddColumn<string>(
                name: "KnownReason",
                table: "Alerts",
                type: "TEXT",
                nullable: true);

            migrationBuilder.AddColumn<long>(
                name: "KnownUntil",
                table: "Alerts",
                type: "INTEGER",
                nullable: true);

            migrationBuilder.AddColumn<string>(
                name: "Severity",
                table: "Alerts",
                type: "TEXT",
                nullable: false,
                defaultValue: "failure");

            migrationBuilder.CreateTable(
                name: "AlertDeeds",
                columns: table => new
                {
                    Id = table.Column<long>(type: "INTEGER", nullable: false)
                        .Annotation("Sqlite:Autoincrement", true),
                    AlertId = table.Column<long>(type: "INTEGER", nullable: false),
                    At = table.Column<long>(type: "INTEGER", nullable: false),
                    Kind = table.Column<string>(type: "TEXT", nullable: false),
                    By = table.Column<string>(type: "TEXT", nullable: true),
                    Words = table.Column<string>(type: "TEXT", nullable: true),
                    RunId = table.Column<long>(type: "INTEGER", nullable: true)
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
