using Microsoft.EntityFrameworkCore.Infrastructure;
using Microsoft.EntityFrameworkCore.Migrations;

#nullable disable

namespace Skevin.Storage.Migrations
{
    /// <summary>Sketches of spans beside their blocks, and single flows for an hour. Neither table is part of the model, so there is no snapshot.</summary>
    [DbContext(typeof(SkevinContext))]
    [Migration("20261126030000_Sketches")]
    public partial class Sketches : Migration
    {
        /// <inheritdoc />
        protected override void Up(MigrationBuilder migrationBuilder) => migrationBuilder.Sql("""
            alter table span_block add column sketch bytea not null default '';
            alter table span_block alter column sketch set storage external;
            create table flow_record (
                id bigint generated always as identity primary key,
                cluster_id int not null references cluster (id) on delete cascade,
                from_ms bigint not null,
                to_ms bigint not null,
                payload bytea not null
            );
            alter table flow_record alter column payload set storage external;
            create index on flow_record (to_ms);
            """);

        /// <inheritdoc />
        protected override void Down(MigrationBuilder migrationBuilder) => migrationBuilder.Sql("drop table flow_record; alter table span_block drop column sketch;");
    }
}
