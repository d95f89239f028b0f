using Microsoft.EntityFrameworkCore.Migrations;

#nullable disable

namespace IronKeep.Catalogue.PostgreSql.Migrations
{
    /// <inheritdoc />
    public partial class WhoIsTold : Migration
    {
        /// <inheritdoc />
        protected override void Up(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.AddColumn<long>(
                name: "AlertId",
                table: "Messages",
                type: "bigint",
                nullable: true);

            migrationBuilder.AddColumn<string>(
                name: "Entries",
                table: "Messages",
                type: "text",
                nullable: false,
                defaultValue: "",
                collation: "C");

            migrationBuilder.AddColumn<string>(
                name: "Gathers",
                table: "Messages",
                type: "text",
                nullable: true,
                collation: "C");

            migrationBuilder.AddColumn<string>(
                name: "Mail",
                table: "Messages",
                type: "text",
                nullable: true,
                collation: "C");

            migrationBuilder.AddColumn<string>(
                name: "Escalated",
                table: "Alerts",
                type: "text",
                nullable: false,
                defaultValue: "",
                collation: "C");

            migrationBuilder.CreateIndex(
                name: "IX_Messages_AlertId",
                table: "Messages",
                column: "AlertId");

            migrationBuilder.CreateIndex(
                name: "IX_Messages_Channel_MadeAt",
                table: "Messages",
                columns: new[] { "Channel", "MadeAt" });
        }

        /// <inheritdoc />
        protected override void Down(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.DropIndex(
                name: "IX_Messages_AlertId",
                table: "Messages");

            migrationBuilder.DropIndex(
                name: "IX_Messages_Channel_MadeAt",
                table: "Messages");

            migrationBuilder.DropColumn(
                name: "AlertId",
                table: "Messages");

            migrationBuilder.DropColumn(
                name: "Entries",
                table: "Messages");

            migrationBuilder.DropColumn(
                name: "Gathers",
                table: "Messages");

            migrationBuilder.DropColumn(
                name: "Mail",
                table: "Messages");

            migrationBuilder.DropColumn(
                name: "Escalated",
                table: "Alerts");
        }
    }
}
