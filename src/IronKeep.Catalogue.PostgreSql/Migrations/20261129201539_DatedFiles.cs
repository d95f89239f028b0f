using Microsoft.EntityFrameworkCore.Migrations;

#nullable disable

namespace IronKeep.Catalogue.PostgreSql.Migrations
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
                type: "text",
                nullable: true);

            migrationBuilder.CreateTable(
                name: "SeenFiles",
                columns: table => new
                {
                    Store = table.Column<string>(type: "text", nullable: false, collation: "C"),
                    Path = table.Column<string>(type: "text", nullable: false, collation: "C"),
                    Size = table.Column<long>(type: "bigint", nullable: false),
                    Modified = table.Column<long>(type: "bigint", nullable: false),
                    Since = table.Column<long>(type: "bigint", nullable: false),
                    IsCopy = table.Column<bool>(type: "boolean", nullable: false),
                    Changed = table.Column<bool>(type: "boolean", nullable: false),
                    Sum = table.Column<string>(type: "text", nullable: true, collation: "C"),
                    SumAt = table.Column<long>(type: "bigint", nullable: true),
                    Problem = table.Column<string>(type: "text", nullable: true, collation: "C"),
                    Binned = table.Column<long>(type: "bigint", nullable: true)
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
