using Microsoft.EntityFrameworkCore.Migrations;
using Npgsql.EntityFrameworkCore.PostgreSQL.Metadata;

#nullable disable

namespace IronKeep.Catalogue.PostgreSql.Migrations
{
    /// <inheritdoc />
    public partial class Reports : Migration
    {
        /// <inheritdoc />
        protected override void Up(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.AddColumn<string>(
                name: "Html",
                table: "Messages",
                type: "text",
                nullable: true,
                collation: "C");

            migrationBuilder.AddColumn<bool>(
                name: "PassedOn",
                table: "Messages",
                type: "boolean",
                nullable: false,
                defaultValue: false);

            migrationBuilder.CreateTable(
                name: "Reports",
                columns: table => new
                {
                    Id = table.Column<long>(type: "bigint", nullable: false)
                        .Annotation("Npgsql:ValueGenerationStrategy", NpgsqlValueGenerationStrategy.IdentityByDefaultColumn),
                    Name = table.Column<string>(type: "text", nullable: false, collation: "C"),
                    Every = table.Column<string>(type: "text", nullable: false),
                    From = table.Column<string>(type: "text", nullable: false, collation: "C"),
                    To = table.Column<string>(type: "text", nullable: false, collation: "C"),
                    AskedAt = table.Column<long>(type: "bigint", nullable: false),
                    MadeAt = table.Column<long>(type: "bigint", nullable: true),
                    Data = table.Column<string>(type: "text", nullable: true, collation: "C"),
                    Problem = table.Column<string>(type: "text", nullable: true, collation: "C"),
                    Tells = table.Column<bool>(type: "boolean", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Reports", x => x.Id);
                });

            migrationBuilder.CreateIndex(
                name: "IX_Reports_MadeAt",
                table: "Reports",
                column: "MadeAt");
        }

        /// <inheritdoc />
        protected override void Down(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.DropTable(
                name: "Reports");

            migrationBuilder.DropColumn(
                name: "Html",
                table: "Messages");

            migrationBuilder.DropColumn(
                name: "PassedOn",
                table: "Messages");
        }
    }
}
