using Microsoft.EntityFrameworkCore.Infrastructure;
using Microsoft.EntityFrameworkCore.Migrations;

#nullable disable

namespace Skevin.Storage.Migrations
{
    /// <summary>How many bits a word sets in a block's filter. The tables are not part of the model, so there is no snapshot.</summary>
    [DbContext(typeof(SkevinContext))]
    [Migration("20261126050000_Probes")]
    public partial class Probes : Migration
    {
        /// <inheritdoc />
        protected override void Up(MigrationBuilder migrationBuilder) => migrationBuilder.Sql("""
            alter table log_block add column probes smallint not null default 7;
            alter table span_block add column probes smallint not null default 7;
            """);

        /// <inheritdoc />
        protected override void Down(MigrationBuilder migrationBuilder) => migrationBuilder.Sql("alter table log_block drop column probes; alter table span_block drop column probes");
    }
}
