using Microsoft.EntityFrameworkCore.Infrastructure;
using Microsoft.EntityFrameworkCore.Migrations;

#nullable disable

namespace Skevin.Storage.Migrations
{
    /// <summary>Enquiries people keep, a row a version. The table is not part of the model, so there is no snapshot.</summary>
    [DbContext(typeof(SkevinContext))]
    [Migration("20261126190000_KeptEnquiries")]
    public partial class KeptEnquiries : Migration
    {
        /// <inheritdoc />
        protected override void Up(MigrationBuilder migrationBuilder) => migrationBuilder.Sql("create table enquiry_version (like sheet_version including all)");

        /// <inheritdoc />
        protected override void Down(MigrationBuilder migrationBuilder) => migrationBuilder.Sql("drop table enquiry_version");
    }
}
