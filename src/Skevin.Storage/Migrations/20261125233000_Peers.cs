using Microsoft.EntityFrameworkCore.Migrations;

#nullable disable

namespace Skevin.Storage.Migrations
{
    /// <inheritdoc />
    public partial class Peers : Migration
    {
        /// <inheritdoc />
        protected override void Up(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.Sql(PeerTables.Up);
            migrationBuilder.AddColumn<int>(name: "items_per_second", table: "ingest_token", type: "integer", nullable: true);
        }

        /// <inheritdoc />
        protected override void Down(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.DropColumn(name: "items_per_second", table: "ingest_token");
            migrationBuilder.Sql(PeerTables.Down);
        }
    }
}
