using Microsoft.EntityFrameworkCore.Infrastructure;
using Microsoft.EntityFrameworkCore.Migrations;

#nullable disable

namespace Skevin.Storage.Migrations
{
    /// <summary>Keys by which agents know their server. The table is not part of the model, so there is no snapshot.</summary>
    [DbContext(typeof(SkevinContext))]
    [Migration("20261126080000_AgentKeys")]
    public partial class AgentKeys : Migration
    {
        /// <inheritdoc />
        protected override void Up(MigrationBuilder migrationBuilder) => migrationBuilder.Sql("""
            create table agent_key (
                cluster_id int primary key,
                protected_key text not null
            );
            """);

        /// <inheritdoc />
        protected override void Down(MigrationBuilder migrationBuilder) => migrationBuilder.Sql("drop table agent_key");
    }
}
