using Microsoft.EntityFrameworkCore.Migrations;

#nullable disable

namespace IronKeep.Catalogue.Sqlite.Migrations
{
    /// <inheritdoc />
    public partial class WhatChanged : Migration
    {
        /// <inheritdoc />
        protected override void Up(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.CreateIndex(
                name: "IX_Copies_BinnedAt",
                table: "Copies",
                column: "BinnedAt",
                filter: "\"BinnedAt\" IS NOT NULL");

            migrationBuilder.CreateIndex(
                name: "IX_Copies_GoneAt",
                table: "Copies",
                column: "GoneAt",
                filter: "\"GoneAt\" IS NOT NULL");

            migrationBuilder.CreateIndex(
                name: "IX_Alerts_ClosedAt",
                table: "Alerts",
                column: "ClosedAt",
                filter: "\"ClosedAt\" IS NOT NULL");

            migrationBuilder.CreateIndex(
                name: "IX_Alerts_OpenedAt",
                table: "Alerts",
                column: "OpenedAt");
        }

        /// <inheritdoc />
        protected override void Down(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.DropIndex(
                name: "IX_Copies_BinnedAt",
                table: "Copies");

            migrationBuilder.DropIndex(
                name: "IX_Copies_GoneAt",
                table: "Copies");

            migrationBuilder.DropIndex(
                name: "IX_Alerts_ClosedAt",
                table: "Alerts");

            migrationBuilder.DropIndex(
                name: "IX_Alerts_OpenedAt",
                table: "Alerts");
        }
    }
}
