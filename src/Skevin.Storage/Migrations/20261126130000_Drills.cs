using Microsoft.EntityFrameworkCore.Infrastructure;
using Microsoft.EntityFrameworkCore.Migrations;

#nullable disable

namespace Skevin.Storage.Migrations
{
    /// <summary>The last drill of each alert rule, and the form of messages to a contact.</summary>
    [DbContext(typeof(SkevinContext))]
    [Migration("20261126130000_Drills")]
    public partial class Drills : Migration
    {
        /// <inheritdoc />
        protected override void Up(MigrationBuilder migrationBuilder) => migrationBuilder.Sql("""
            create table drill (
                rule_id uuid constraint pk_drill primary key constraint fk_drill_alarm_rule_rule_id references alarm_rule (id) on delete cascade,
                fault text not null,
                begun_by text not null,
                begun_at timestamptz not null,
                seen_at timestamptz not null,
                ended_at timestamptz,
                document jsonb not null
            );
            alter table contact add column template text;
            """);

        /// <inheritdoc />
        protected override void Down(MigrationBuilder migrationBuilder) => migrationBuilder.Sql("drop table drill; alter table contact drop column template;");
    }
}
