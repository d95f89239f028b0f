using Microsoft.EntityFrameworkCore.Migrations;

#nullable disable

namespace IronKeep.Catalogue.PostgreSql.Migrations
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
                type: "text",
                nullable: true,
                collation: "C");

            migrationBuilder.AddColumn<long>(
                name: "CameAsAt",
                table: "Agents",
                type: "bigint",
                nullable: true);

            migrationBuilder.CreateTable(
                name: "MachineCoverages",
                columns: table => new
                {
                    Machine = table.Column<string>(type: "text", nullable: false, collation: "C"),
                    Class = table.Column<string>(type: "text", nullable: false),
                    Since = table.Column<long>(type: "bigint", nullable: false),
                    Before = table.Column<string>(type: "text", nullable: true)
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
