using Microsoft.EntityFrameworkCore.Infrastructure;
using Microsoft.EntityFrameworkCore.Migrations;

#nullable disable

namespace Skevin.Storage.Migrations
{
    /// <summary>When each metric was asked for last. The table is not part of the model, so there is no snapshot.</summary>
    [DbContext(typeof(SkevinContext))]
    [Migration("20261126060000_Asked")]
    public partial class Asked : Migration
    {
        /// <inheritdoc />
        protected override void Up(MigrationBuilder migrationBuilder) => migrationBuilder.Sql("create table asked_metric (metric text primary key, at timestamptz not null)");

        /// <inheritdoc />
        protected override void Down(MigrationBuilder migrationBuilder) => migrationBuilder.Sql("drop table asked_metric");
    }
}
