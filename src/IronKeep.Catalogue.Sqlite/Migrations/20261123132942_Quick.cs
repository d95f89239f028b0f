using Microsoft.EntityFrameworkCore.Migrations;

#nullable disable

namespace IronKeep.Catalogue.Sqlite.Migrations
{
    /// <inheritdoc />
    public partial class Quick : Migration
    {
        /// <inheritdoc />
        protected override void Up(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.CreateIndex(
                name: "IX_Copies_Machine_Job",
                table: "Copies",
                columns: new[] { "Machine", "Job" },
                filter: "\"GoneAt\" IS NULL AND \"BinnedAt\" IS NULL");
        }

        /// <inheritdoc />
        protected override void Down(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.DropIndex(
                name: "IX_Copies_Machine_Job",
                table: "Copies");
        }
    }
}
