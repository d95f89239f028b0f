using Microsoft.EntityFrameworkCore.Migrations;
using Npgsql.EntityFrameworkCore.PostgreSQL.Metadata;

#nullable disable

namespace IronKeep.Catalogue.PostgreSql.Migrations
{
    /// <inheritdoc />
    public partial class Machines : Migration
    {
        /// <inheritdoc />
        protected override void Up(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.CreateTable(
                name: "Agents",
                columns: table => new
                {
                    Machine = table.Column<string>(type: "text", nullable: false, collation: "C"),
                    KeyPrint = table.Column<byte[]>(type: "bytea", nullable: false),
                    EnrolledBy = table.Column<string>(type: "text", nullable: false, collation: "C"),
                    JoinedAt = table.Column<long>(type: "bigint", nullable: false),
                    HeardAt = table.Column<long>(type: "bigint", nullable: false),
                    Version = table.Column<string>(type: "text", nullable: false, collation: "C"),
                    System = table.Column<string>(type: "text", nullable: false, collation: "C"),
                    Address = table.Column<string>(type: "text", nullable: false, collation: "C"),
                    ClockAhead = table.Column<double>(type: "double precision", nullable: false),
                    ShutOutAt = table.Column<long>(type: "bigint", nullable: true),
                    ShutOutBy = table.Column<string>(type: "text", nullable: true, collation: "C"),
                    ShutOutWhy = table.Column<string>(type: "text", nullable: true, collation: "C")
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Agents", x => x.Machine);
                });

            migrationBuilder.CreateTable(
                name: "JoiningCodes",
                columns: table => new
                {
                    Id = table.Column<long>(type: "bigint", nullable: false)
                        .Annotation("Npgsql:ValueGenerationStrategy", NpgsqlValueGenerationStrategy.IdentityByDefaultColumn),
                    Machine = table.Column<string>(type: "text", nullable: false, collation: "C"),
                    Hash = table.Column<byte[]>(type: "bytea", nullable: false),
                    MadeBy = table.Column<string>(type: "text", nullable: false, collation: "C"),
                    MadeAt = table.Column<long>(type: "bigint", nullable: false),
                    Until = table.Column<long>(type: "bigint", nullable: false),
                    UsedAt = table.Column<long>(type: "bigint", nullable: true)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_JoiningCodes", x => x.Id);
                });

            migrationBuilder.CreateIndex(
                name: "IX_Agents_KeyPrint",
                table: "Agents",
                column: "KeyPrint",
                unique: true);

            migrationBuilder.CreateIndex(
                name: "IX_JoiningCodes_Hash",
                table: "JoiningCodes",
                column: "Hash",
                unique: true);
        }

        /// <inheritdoc />
        protected override void Down(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.DropTable(
                name: "Agents");

            migrationBuilder.DropTable(
                name: "JoiningCodes");
        }
    }
}
