using Microsoft.AspNetCore.DataProtection.EntityFrameworkCore;
using Microsoft.AspNetCore.Identity.EntityFrameworkCore;
using Microsoft.EntityFrameworkCore;
using Microsoft.EntityFrameworkCore.Design;
using Npgsql;

namespace Skevin.Storage;

/// <summary>Everything that is not samples. Samples go by bulk paths, see <c>Metrics/</c>.</summary>
public sealed class SkevinContext(DbContextOptions<SkevinContext> options)
    : IdentityUserContext<Person>(options), IDataProtectionKeyContext
{
    public DbSet<DataProtectionKey> DataProtectionKeys => Set<DataProtectionKey>();
    public DbSet<ClusterRow> Clusters => Set<ClusterRow>();
    public DbSet<PlanRevisionRow> PlanRevisions => Set<PlanRevisionRow>();
    public DbSet<MachineRow> Machines => Set<MachineRow>();
    public DbSet<IngestTokenRow> IngestTokens => Set<IngestTokenRow>();
    public DbSet<AlarmRuleRow> AlarmRules => Set<AlarmRuleRow>();
    public DbSet<AlarmRow> Alarms => Set<AlarmRow>();
    public DbSet<AlarmEventRow> AlarmEvents => Set<AlarmEventRow>();
    public DbSet<RuleVerdictRow> RuleVerdicts => Set<RuleVerdictRow>();
    public DbSet<DrillRow> Drills => Set<DrillRow>();
    public DbSet<ContactRow> Contacts => Set<ContactRow>();
    public DbSet<TeamRow> Teams => Set<TeamRow>();
    public DbSet<AlarmNoteRow> AlarmNotes => Set<AlarmNoteRow>();
    public DbSet<MessageRow> Messages => Set<MessageRow>();
    public DbSet<MarkRow> Marks => Set<MarkRow>();

    /// <summary>The options every part of the server uses.</summary>
    public static void Configure(DbContextOptionsBuilder builder, NpgsqlDataSource database) =>
        builder.UseNpgsql(database).UseSnakeCaseNamingConvention();

    /// <inheritdoc/>
    protected override void OnModelCreating(ModelBuilder model)
    {
        base.OnModelCreating(model);
        model.Entity<ClusterRow>().ToTable("cluster").HasIndex(row => row.Name).IsUnique();
        model.Entity<PlanRevisionRow>(table =>
        {
            table.ToTable("plan_revision").HasIndex(row => new { row.ClusterId, row.Revision }).IsUnique();
            table.Property(row => row.Plan).HasColumnType("jsonb");
            table.HasOne<ClusterRow>().WithMany().HasForeignKey(row => row.ClusterId).OnDelete(DeleteBehavior.Cascade);
        });
        model.Entity<MachineRow>(table =>
        {
            table.ToTable("machine").HasIndex(row => new { row.ClusterId, row.Name }).IsUnique();
            table.Property(row => row.Plan).HasColumnType("jsonb");
            table.HasOne<ClusterRow>().WithMany().HasForeignKey(row => row.ClusterId).OnDelete(DeleteBehavior.Cascade);
        });
        model.Entity<IngestTokenRow>(table =>
        {
            table.ToTable("ingest_token").HasIndex(row => row.Hash).IsUnique();
            table.HasOne<ClusterRow>().WithMany().HasForeignKey(row => row.ClusterId).OnDelete(DeleteBehavior.Cascade);
        });
        model.Entity<AlarmRuleRow>(table =>
        {
            table.ToTable("alarm_rule").HasIndex(row => new { row.ClusterId, row.Name }).IsUnique();
            table.Property(row => row.Document).HasColumnType("jsonb");
            table.HasOne<ClusterRow>().WithMany().HasForeignKey(row => row.ClusterId).OnDelete(DeleteBehavior.Cascade);
        });
        model.Entity<AlarmRow>(table =>
        {
            table.ToTable("alarm").HasIndex(row => new { row.RuleId, row.Labels }).IsUnique();
            table.HasOne<AlarmRuleRow>().WithMany().HasForeignKey(row => row.RuleId).OnDelete(DeleteBehavior.Cascade);
        });
        model.Entity<AlarmEventRow>().ToTable("alarm_event").HasIndex(row => new { row.ClusterId, row.At });
        model.Entity<RuleVerdictRow>(table =>
        {
            table.ToTable("rule_verdict").HasKey(row => new { row.RuleId, row.SlotEnd });
            table.Property(row => row.Verdicts).HasColumnType("jsonb");
            table.HasOne<AlarmRuleRow>().WithMany().HasForeignKey(row => row.RuleId).OnDelete(DeleteBehavior.Cascade);
        });
        model.Entity<DrillRow>(table =>
        {
            table.ToTable("drill").HasKey(row => row.RuleId);
            table.Property(row => row.RuleId).ValueGeneratedNever();
            table.Property(row => row.Document).HasColumnType("jsonb");
            table.HasOne<AlarmRuleRow>().WithMany().HasForeignKey(row => row.RuleId).OnDelete(DeleteBehavior.Cascade);
        });
        model.Entity<ContactRow>().ToTable("contact").HasIndex(row => row.Name).IsUnique();
        model.Entity<MessageRow>(table =>
        {
            table.ToTable("message").HasIndex(row => row.DeliveredAt);
            // A step of a team is told once of an alarm, whatever breaks off in between.
            table.HasIndex(row => new { row.AlarmId, row.EventId, row.Team, row.Step, row.Contact }).IsUnique();
            table.Property(row => row.Body).HasColumnType("jsonb");
        });
        model.Entity<TeamRow>(table =>
        {
            table.ToTable("team").HasIndex(row => row.Name).IsUnique();
            table.Property(row => row.Document).HasColumnType("jsonb");
        });
        model.Entity<AlarmNoteRow>().ToTable("alarm_note").HasIndex(row => row.AlarmId);
        model.Entity<MarkRow>().ToTable("mark").HasIndex(row => new { row.ClusterId, row.At });
    }
}

/// <summary>For the migration tool only.</summary>
public sealed class SkevinContextDesign : IDesignTimeDbContextFactory<SkevinContext>
{
    /// <inheritdoc/>
    public SkevinContext CreateDbContext(string[] args)
    {
        var builder = new DbContextOptionsBuilder<SkevinContext>();
        SkevinContext.Configure(builder, NpgsqlDataSource.Create("Host=localhost;Database=skevin"));
        return new SkevinContext(builder.Options);
    }
}
