using Microsoft.EntityFrameworkCore.Infrastructure;
using Microsoft.EntityFrameworkCore.Migrations;

#nullable disable

namespace Skevin.Storage.Migrations
{
    /// <summary>People's own sheets, a row a version. The table is not part of the model, so there is no snapshot.</summary>
    [DbContext(typeof(SkevinContext))]
    [Migration("20261126070000_Sheets")]
    public partial class Sheets : Migration
    {
        /// <inheritdoc />
        protected override void Up(MigrationBuilder migrationBuilder) => migrationBuilder.Sql("""
            create table sheet_version (
                id text not null,
                version int not null,
                document jsonb not null,
                changed_by text not null,
                changed_at timestamptz not null,
                gone boolean not null,
                primary key (id, version)
            );
            """);

        /// <inheritdoc />
        protected override void Down(MigrationBuilder migrationBuilder) => migrationBuilder.Sql("drop table sheet_version");
    }
}
