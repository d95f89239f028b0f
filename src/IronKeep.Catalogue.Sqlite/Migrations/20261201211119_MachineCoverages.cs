using Microsoft.EntityFrameworkCore.Migrations;

#nullable disable

namespace IronKeep.Catalogue.Sqlite.Migrations
{
    /// <inheritdoc />
    public partial class MachineCoverages : Migration
    {
        /// <inheritdoc />
        protected override void Up(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.AddColumn<string>(
                name: "CameAs",
                table: "Agents",
                type: "TEXT",
                nullable: true);

            migrationBuilder.AddColumn<long>(
                name: "CameAsAt",
                table: "Agents",
                type: "INTEGER",
                nullable: true);

            migrationBuilder.CreateTable(
                name: "MachineCoverages",
                columns: table => new
                {
                    Machine = table.Column<string>(type: "TEXT", nullable: false),
                    Class = table.Column<string>(type: "TEXT", nullable: false),
                    Since = table.Column<long>(type: "INTEGER", nullable: false),
                    Before = table.Column<string>(type: "TEXT", nullable: true)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_MachineCoverages", x => x.Machine);
                });
        }

        /// <inheritdoc />
        protected override void Down(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.DropTable(
                name: "MachineCoverages");

            migrationBuilder.DropColumn(
                name: "CameAs",
                table: "Agents");

            migrationBuilder.DropColumn(
                name: "CameAsAt",
                table: "Agents");
        }
    }
}
