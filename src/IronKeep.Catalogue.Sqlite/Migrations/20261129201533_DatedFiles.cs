using Microsoft.EntityFrameworkCore.Migrations;

#nullable disable

namespace IronKeep.Catalogue.Sqlite.Migrations
{
    /// <inheritdoc />
    public partial class DatedFiles : Migration
    {
        /// <inheritdoc />
        protected override void Up(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.AddColumn<string>(
                name: "Kind",
                table: "Copies",
                type: "TEXT",
                nullable: true);

            migrationBuilder.CreateTable(
                name: "SeenFiles",
                columns: table => new
                {
                    Store = table.Column<string>(type: "TEXT", nullable: false),
                    Path = table.Column<string>(type: "TEXT", nullable: false),
                    Size = table.Column<long>(type: "INTEGER", nullable: false),
                    Modified = table.Column<long>(type: "INTEGER", nullable: false),
                    Since = table.Column<long>(type: "INTEGER", nullable: false),
                    IsCopy = table.Column<bool>(type: "INTEGER", nullable: false),
                    Changed = table.Column<bool>(type: "INTEGER", nullable: false),
                    Sum = table.Column<string>(type: "TEXT", nullable: true),
                    SumAt = table.Column<long>(type: "INTEGER", nullable: true),
                    Problem = table.Column<string>(type: "TEXT", nullable: true),
                    Binned = table.Column<long>(type: "INTEGER", nullable: true)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_SeenFiles", x => new { x.Store, x.Path });
                });
        }

        /// <inheritdoc />
        protected override void Down(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.DropTable(
                name: "SeenFiles");

            migrationBuilder.DropColumn(
                name: "Kind",
                table: "Copies");
        }
    }
}
