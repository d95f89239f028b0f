using IronKeep.Core.Quantities;
using Microsoft.EntityFrameworkCore;
using Microsoft.EntityFrameworkCore.Design;
using Microsoft.EntityFrameworkCore.Storage.ValueConversion;
using NodaTime;

namespace IronKeep.Service.Catalogue;

/// <summary>The catalogue. Instants are kept as ticks (100 ns) since 1970, so that they sort; enums as their hyphenated words.</summary>
public sealed class KeepContext(DbContextOptions<KeepContext> options) : DbContext(options)
{
    public DbSet<Person> People => Set<Person>();
    public DbSet<Session> Sessions => Set<Session>();
    public DbSet<PersonalToken> Tokens => Set<PersonalToken>();
    public DbSet<CalendarFeed> CalendarFeeds => Set<CalendarFeed>();
    public DbSet<CharterRevision> CharterRevisions => Set<CharterRevision>();
    public DbSet<JobWatch> JobWatches => Set<JobWatch>();
    public DbSet<PlannedRun> PlannedRuns => Set<PlannedRun>();
    public DbSet<Run> Runs => Set<Run>();
    public DbSet<Copy> Copies => Set<Copy>();
    public DbSet<PrunePlanRow> PrunePlans => Set<PrunePlanRow>();
    public DbSet<Alert> Alerts => Set<Alert>();
    public DbSet<StoreWatch> StoreWatches => Set<StoreWatch>();
    public DbSet<PackRead> PackReads => Set<PackRead>();
    public DbSet<Note> Notes => Set<Note>();
    public DbSet<Message> Messages => Set<Message>();

    protected override void OnModelCreating(ModelBuilder modelBuilder)
    {
        modelBuilder.Entity<Person>().HasIndex(p => p.Name).IsUnique();
        modelBuilder.Entity<PersonalToken>().HasIndex(t => t.Hash).IsUnique();
        modelBuilder.Entity<CalendarFeed>().HasIndex(f => f.Hash).IsUnique();
        modelBuilder.Entity<JobWatch>().HasKey(w => new { w.Job, w.Machine });
        modelBuilder.Entity<PlannedRun>().HasIndex(p => new { p.Job, p.Machine, p.Due }).IsUnique();
        modelBuilder.Entity<PlannedRun>().HasIndex(p => p.Due);
        modelBuilder.Entity<PlannedRun>().HasIndex(p => p.Id, "IX_PlannedRuns_Open").HasFilter("\"Outcome\" IS NULL");
        modelBuilder.Entity<PlannedRun>().HasIndex(p => p.Id, "IX_PlannedRuns_Untold").HasFilter("\"Told\" = 0");
        modelBuilder.Entity<PlannedRun>().Property(p => p.Told).HasDefaultValue(true).HasSentinel(true);
        modelBuilder.Entity<PlannedRun>().Property(p => p.Times).HasDefaultValue(1).HasSentinel(1);
        modelBuilder.Entity<Run>().Property(r => r.Followed).HasDefaultValue(true).HasSentinel(true);
        modelBuilder.Entity<Run>().Ignore(r => r.Took);
        modelBuilder.Entity<Run>().HasIndex(r => r.Id, "IX_Runs_Unfollowed").HasFilter("\"Followed\" = 0");
        modelBuilder.Entity<StoreWatch>().HasKey(w => new { w.Store, w.What });
        modelBuilder.Entity<PackRead>().HasKey(r => new { r.Store, r.Pack });
        modelBuilder.Entity<Note>().HasKey(n => n.Key);
        modelBuilder.Entity<Message>().HasIndex(t => t.NextAt).HasFilter("\"EndedAt\" IS NULL");
        modelBuilder.Entity<Run>().HasIndex(r => r.State).HasFilter("\"State\" <> 'ended'");
        modelBuilder.Entity<Run>().HasIndex(r => new { r.Job, r.Id });
        modelBuilder.Entity<Run>().HasIndex(r => r.Queued);
        modelBuilder.Entity<Copy>().HasIndex(c => new { c.Job, c.Machine, c.Taken });
        modelBuilder.Entity<Copy>().HasIndex(c => new { c.Store, c.Taken });
        modelBuilder.Entity<Copy>().HasIndex(c => c.Taken);
        modelBuilder.Entity<Copy>().HasIndex(c => new { c.Machine, c.Job }).HasFilter("\"GoneAt\" IS NULL AND \"BinnedAt\" IS NULL");
        modelBuilder.Entity<PrunePlanRow>().HasKey(p => p.Fingerprint);
        modelBuilder.Entity<Alert>().HasIndex(a => new { a.Subject, a.Class });
        modelBuilder.Entity<Alert>().HasIndex(a => a.State);
    }

    protected override void ConfigureConventions(ModelConfigurationBuilder configurationBuilder)
    {
        configurationBuilder.Properties<Instant>().HaveConversion<InstantConverter>();
        configurationBuilder.Properties<RunKind>().HaveConversion<WordConverter<RunKind>>();
        configurationBuilder.Properties<RunState>().HaveConversion<WordConverter<RunState>>();
        configurationBuilder.Properties<AlertState>().HaveConversion<WordConverter<AlertState>>();
        configurationBuilder.Properties<AlertClass>().HaveConversion<WordConverter<AlertClass>>();
        configurationBuilder.Properties<Core.Watching.Outcome>().HaveConversion<WordConverter<Core.Watching.Outcome>>();
        configurationBuilder.Properties<Core.Watching.FailureClass>().HaveConversion<WordConverter<Core.Watching.FailureClass>>();
        configurationBuilder.Properties<Core.Watching.CopyState>().HaveConversion<WordConverter<Core.Watching.CopyState>>();
    }

    private sealed class InstantConverter() : ValueConverter<Instant, long>(i => i.ToUnixTimeTicks(), t => Instant.FromUnixTimeTicks(t));

    private sealed class WordConverter<T>() : ValueConverter<T, string>(v => Kebab.Of(v), s => Kebab.Read<T>(s)!.Value)
        where T : struct, Enum;
}

/// <summary>For the migration tool only.</summary>
public sealed class KeepContextFactory : IDesignTimeDbContextFactory<KeepContext>
{
    public KeepContext CreateDbContext(string[] args) =>
        new(new DbContextOptionsBuilder<KeepContext>().UseSqlite("Data Source=:memory:").Options);
}
