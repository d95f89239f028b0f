using Microsoft.EntityFrameworkCore.Migrations;

#nullable disable

namespace IronKeep.Catalogue.Sqlite.Migrations
{
    /// <inheritdoc />
    public partial class Surges : Migration
    {
        /// <inheritdoc />
        protected override void Up(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.AddColumn<long>(
                name: "Added",
                table: "Runs",
                type: "INTEGER",
                nullable: false,
                defaultValue: 0L);

            migrationBuilder.AddColumn<long>(
                name: "Altered",
                table: "Runs",
                type: "INTEGER",
                nullable: false,
                defaultValue: 0L);

            migrationBuilder.AddColumn<long>(
                name: "Gone",
                table: "Runs",
                type: "INTEGER",
                nullable: false,
                defaultValue: 0L);

            migrationBuilder.AddColumn<long>(
                name: "Known",
                table: "Runs",
                type: "INTEGER",
                nullable: false,
                defaultValue: 0L);

            migrationBuilder.AddColumn<string>(
                name: "Surge",
                table: "Runs",
                type: "TEXT",
                nullable: true);

            migrationBuilder.AddColumn<string>(
                name: "SurgeSeenBy",
                table: "Runs",
                type: "TEXT",
                nullable: true);

            migrationBuilder.AddColumn<string>(
                name: "ExpiryHeldBy",
                table: "JobWatches",
                type: "TEXT",
                nullable: true);

            migrationBuilder.AddColumn<string>(
                name: "ExpiryHeldReason",
                table: "JobWatches",
                type: "TEXT",
                nullable: true);

            migrationBuilder.AddColumn<long>(
                name: "ExpiryHeldUntil",
                table: "JobWatches",
                type: "INTEGER",
                nullable: true);

            migrationBuilder.CreateIndex(
                name: "IX_Runs_Surge",
                table: "Runs",
                column: "Job",
                filter: "\"Surge\" IS NOT NULL AND \"SurgeSeenBy\" IS NULL");
        }

        /// <inheritdoc />
        protected override void Down(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.DropIndex(
                name: "IX_Runs_Surge",
                table: "Runs");

            migrationBuilder.DropColumn(
                name: "Added",
                table: "Runs");

            migrationBuilder.DropColumn(
                name: "Altered",
                table: "Runs");

            migrationBuilder.DropColumn(
                name: "Gone",
                table: "Runs");

            migrationBuilder.DropColumn(
                name: "Known",
                table: "Runs");

            migrationBuilder.DropColumn(
                name: "Surge",
                table: "Runs");

            migrationBuilder.DropColumn(
                name: "SurgeSeenBy",
                table: "Runs");

            migrationBuilder.DropColumn(
                name: "ExpiryHeldBy",
                table: "JobWatches");

            migrationBuilder.DropColumn(
                name: "ExpiryHeldReason",
                table: "JobWatches");

            migrationBuilder.DropColumn(
                name: "ExpiryHeldUntil",
                table: "JobWatches");
        }
    }
}
