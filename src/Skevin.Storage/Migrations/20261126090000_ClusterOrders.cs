using Microsoft.EntityFrameworkCore.Infrastructure;
using Microsoft.EntityFrameworkCore.Migrations;

#nullable disable

namespace Skevin.Storage.Migrations
{
    /// <summary>Clusters that were ordered. The table is not part of the model, so there is no snapshot.</summary>
    [DbContext(typeof(SkevinContext))]
    [Migration("20261126090000_ClusterOrders")]
    public partial class ClusterOrders : Migration
    {
        /// <inheritdoc />
        protected override void Up(MigrationBuilder migrationBuilder) => migrationBuilder.Sql("""
            create table cluster_order (
                name text primary key,
                document jsonb not null,
                sizes jsonb not null,
                ordered_by text not null,
                ordered_at timestamptz not null,
                connected_at timestamptz
            );
            """);

        /// <inheritdoc />
        protected override void Down(MigrationBuilder migrationBuilder) => migrationBuilder.Sql("drop table cluster_order");
    }
}
