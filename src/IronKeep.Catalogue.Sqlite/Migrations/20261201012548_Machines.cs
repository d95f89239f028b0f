using Microsoft.EntityFrameworkCore.Migrations;

#nullable disable

namespace IronKeep.Catalogue.Sqlite.Migrations
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
                    Machine = table.Column<string>(type: "TEXT", nullable: false),
                    KeyPrint = table.Column<byte[]>(type: "BLOB", nullable: false),
                    EnrolledBy = table.Column<string>(type: "TEXT", nullable: false),
                    JoinedAt = table.Column<long>(type: "INTEGER", nullable: false),
                    HeardAt = table.Column<long>(type: "INTEGER", nullable: false),
                    Version = table.Column<string>(type: "TEXT", nullable: false),
                    System = table.Column<string>(type: "TEXT", nullable: false),
                    Address = table.Column<string>(type: "TEXT", nullable: false),
                    ClockAhead = table.Column<double>(type: "REAL", nullable: false),
                    ShutOutAt = table.Column<long>(type: "INTEGER", nullable: true),
                    ShutOutBy = table.Column<string>(type: "TEXT", nullable: true),
                    ShutOutWhy = table.Column<string>(type: "TEXT", nullable: true)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Agents", x => x.Machine);
                });

            migrationBuilder.CreateTable(
                name: "JoiningCodes",
                columns: table => new
                {
                    Id = table.Column<long>(type: "INTEGER", nullable: false)
                        .Annotation("Sqlite:Autoincrement", true),
                    Machine = table.Column<string>(type: "TEXT", nullable: false),
                    Hash = table.Column<byte[]>(type: "BLOB", nullable: false),
                    MadeBy = table.Column<string>(type: "TEXT", nullable: false),
                    MadeAt = table.Column<long>(type: "INTEGER", nullable: false),
                    Until = table.Column<long>(type: "INTEGER", nullable: false),
                    UsedAt = table.Column<long>(type: "INTEGER", nullable: true)
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
