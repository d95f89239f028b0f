using Microsoft.EntityFrameworkCore.Migrations;

#nullable disable

namespace IronKeep.Catalogue.PostgreSql.Migrations
{
    /// <inheritdoc />
    public partial class ManyMachineIndexes : Migration
    {
        /// <inheritdoc />
        protected override void Up(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.DropIndex(
                name: "IX_Copies_Job_Machine_Taken",
                table: "Copies");

            migrationBuilder.DropIndex(
                name: "IX_Copies_Machine_Job",
                table: "Copies");

            migrationBuilder.CreateIndex(
                name: "IX_Runs_Job_Machine_Id",
                table: "Runs",
                columns: new[] { "Job", "Machine", "Id" });

            migrationBuilder.CreateIndex(
                name: "IX_Copies_Job_Machine_Store_Taken",
                table: "Copies",
                columns: new[] { "Job", "Machine", "Store", "Taken" });

            migrationBuilder.CreateIndex(
                name: "IX_Copies_Machine_Job_Store_Taken_GoneAt_BinnedAt",
                table: "Copies",
                columns: new[] { "Machine", "Job", "Store", "Taken", "GoneAt", "BinnedAt" },
                filter: "\"GoneAt\" IS NULL AND \"BinnedAt\" IS NULL");
        }

        /// <inheritdoc />
        protected override void Down(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.DropIndex(
                name: "IX_Runs_Job_Machine_Id",
                table: "Runs");

            migrationBuilder.DropIndex(
                name: "IX_Copies_Job_Machine_Store_Taken",
                table: "Copies");

            migrationBuilder.DropIndex(
                name: "IX_Copies_Machine_Job_Store_Taken_GoneAt_BinnedAt",
                table: "Copies");

            migrationBuilder.CreateIndex(
                name: "IX_Copies_Job_Machine_Taken",
                table: "Copies",
                columns: new[] { "Job", "Machine", "Taken" });

            migrationBuilder.CreateIndex(
                name: "IX_Copies_Machine_Job",
                table: "Copies",
                columns: new[] { "Machine", "Job" },
                filter: "\"GoneAt\" IS NULL AND \"BinnedAt\" IS NULL");
        }
    }
}
