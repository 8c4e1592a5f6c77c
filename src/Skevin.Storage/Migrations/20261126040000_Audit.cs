using Microsoft.EntityFrameworkCore.Infrastructure;
using Microsoft.EntityFrameworkCore.Migrations;

#nullable disable

namespace Skevin.Storage.Migrations
{
    /// <summary>Who changed what, and incidents people wrote up; word filters are kept so that parts of them can be read. The table is not part of the model, so there is no snapshot.</summary>
    [DbContext(typeof(SkevinContext))]
    [Migration("20261126040000_Audit")]
    public partial class Audit : Migration
    {
        /// <inheritdoc />
        protected override void Up(MigrationBuilder migrationBuilder) => migrationBuilder.Sql("""
            create table audit_entry (
                id bigint generated always as identity primary key,
                at timestamptz not null,
                person text not null,
                email text not null,
                action text not null,
                about text,
                cluster text,
                detail text
            );
            create index on audit_entry (at);
            create table incident (
                id bigint generated always as identity primary key,
                title text not null,
                from_at timestamptz not null,
                to_at timestamptz not null,
                cluster text,
                written_by text not null,
                written_at timestamptz not null
            );
            create index on incident (from_at);
            alter table log_block alter column words set storage external;
            alter table span_block alter column words set storage external;
            """);

        /// <inheritdoc />
        protected override void Down(MigrationBuilder migrationBuilder) => migrationBuilder.Sql("drop table audit_entry, incident");
    }
}
