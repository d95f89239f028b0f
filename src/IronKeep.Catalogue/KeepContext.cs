using IronKeep.Core.Dated;
using IronKeep.Core.Machines;
using IronKeep.Core.Quantities;
using IronKeep.Core.Reports;
using IronKeep.Core.Watching;
using Microsoft.EntityFrameworkCore;
using Microsoft.EntityFrameworkCore.Storage.ValueConversion;
using NodaTime;

namespace IronKeep.Catalogue;

/// <summary>
/// The catalogue, in a SQLite file or in PostgreSQL. Instants are kept as ticks (100 ns) since 1970 in both, so that they sort and lose
/// nothing; enums as their hyphenated words; text is ordered by its bytes.
/// </summary>
public sealed class KeepContext(DbContextOptions<KeepContext> options) : DbContext(options)
{
    public DbSet<Person> People => Set<Person>();
    public DbSet<Session> Sessions => Set<Session>();
    public DbSet<PersonalToken> Tokens => Set<PersonalToken>();
    public DbSet<CalendarAddress> CalendarAddresses => Set<CalendarAddress>();
    public DbSet<CharterRevision> CharterRevisions => Set<CharterRevision>();
    public DbSet<JobOnMachine> JobsOnMachines => Set<JobOnMachine>();
    public DbSet<PlannedRun> PlannedRuns => Set<PlannedRun>();
    public DbSet<JoiningCode> JoiningCodes => Set<JoiningCode>();
    public DbSet<Agent> Agents => Set<Agent>();
    public DbSet<CoverageSince> MachineCoverages => Set<CoverageSince>();
    public DbSet<CheckInAddress> CheckInAddresses => Set<CheckInAddress>();
    public DbSet<TakenReport> TakenReports => Set<TakenReport>();
    public DbSet<Run> Runs => Set<Run>();
    public DbSet<HangingRun> HangingRuns => Set<HangingRun>();
    public DbSet<Copy> Copies => Set<Copy>();
    public DbSet<PrunePlanRow> PrunePlans => Set<PrunePlanRow>();
    public DbSet<Alert> Alerts => Set<Alert>();
    public DbSet<AlertDeed> AlertDeeds => Set<AlertDeed>();
    public DbSet<Ticket> Tickets => Set<Ticket>();
    public DbSet<TimedMark> TimedMarks => Set<TimedMark>();
    public DbSet<SeenFile> SeenFiles => Set<SeenFile>();
    public DbSet<PackRead> PackReads => Set<PackRead>();
    public DbSet<KeptValue> KeptValues => Set<KeptValue>();
    public DbSet<Message> Messages => Set<Message>();
    public DbSet<KeptReport> Reports => Set<KeptReport>();
    public DbSet<Fact> Facts => Set<Fact>();
    public DbSet<FollowerPosition> FollowerPositions => Set<FollowerPosition>();
    public DbSet<Worker> Workers => Set<Worker>();
    public DbSet<Lease> Leases => Set<Lease>();
    public DbSet<RoomPromise> RoomPromises => Set<RoomPromise>();
    public DbSet<LogLine> LogLines => Set<LogLine>();
    public DbSet<SealingKey> SealingKeys => Set<SealingKey>();

    protected override void OnModelCreating(ModelBuilder modelBuilder)
    {
        modelBuilder.Entity<Person>().HasIndex(p => p.Name).IsUnique();
        modelBuilder.Entity<PersonalToken>().HasIndex(t => t.Hash).IsUnique();
        modelBuilder.Entity<CalendarAddress>().ToTable("CalendarFeeds").HasIndex(f => f.Hash).IsUnique();
        // Their tables are called as they were first.
        modelBuilder.Entity<JobOnMachine>().ToTable("JobWatches").HasKey(w => new { w.Job, w.Machine });
        modelBuilder
            .Entity<PlannedRun>()
            .HasIndex(p => new
            {
                p.Job,
                p.Machine,
                p.Due,
            })
            .IsUnique();
        modelBuilder.Entity<PlannedRun>().HasIndex(p => p.Due);
        modelBuilder.Entity<PlannedRun>().HasIndex(p => p.Id, "IX_PlannedRuns_Open").HasFilter("\"Outcome\" IS NULL");
        modelBuilder.Entity<PlannedRun>().HasIndex(p => p.Until).HasFilter("\"Until\" IS NOT NULL");
        modelBuilder.Entity<PlannedRun>().Property(p => p.Times).HasDefaultValue(1).HasSentinel(1);
        modelBuilder.Entity<JoiningCode>().HasIndex(c => c.Hash).IsUnique();
        modelBuilder.Entity<Agent>().HasKey(a => a.Machine);
        modelBuilder.Entity<CoverageSince>().HasKey(c => c.Machine);
        modelBuilder.Entity<Agent>().HasIndex(a => a.KeyPrint).IsUnique();
        modelBuilder.Entity<CheckInAddress>().HasIndex(a => a.Hash).IsUnique();
        modelBuilder.Entity<CheckInAddress>().HasIndex(a => new { a.Job, a.Machine }).IsUnique();
        modelBuilder.Entity<TakenReport>().HasIndex(r => r.At);
        modelBuilder.Entity<Run>().Ignore(r => r.Took).Ignore(r => r.By);
        modelBuilder.Entity<HangingRun>().HasKey(h => h.RunId);
        modelBuilder.Entity<HangingRun>().Property(h => h.RunId).ValueGeneratedNever();
        modelBuilder.Entity<TimedMark>().ToTable("StoreWatches").HasKey(w => new { w.Store, w.What });
        modelBuilder.Entity<SeenFile>().HasKey(f => new { f.Store, f.Path });
        modelBuilder.Entity<PackRead>().HasKey(r => new { r.Store, r.Pack });
        modelBuilder.Entity<KeptValue>().ToTable("Notes").HasKey(n => n.Key);
        modelBuilder.Entity<Message>().HasIndex(t => t.NextAt).HasFilter("\"EndedAt\" IS NULL");
        modelBuilder
            .Entity<Run>()
            .HasIndex(r => r.Job)
            .HasFilter("\"Surge\" IS NOT NULL AND \"SurgeSeenBy\" IS NULL")
            .HasDatabaseName("IX_Runs_Surge");
        modelBuilder.Entity<Message>().HasIndex(t => t.AlertId);
        modelBuilder.Entity<Message>().HasIndex(t => new { t.Channel, t.MadeAt });
        modelBuilder.Entity<Run>().HasIndex(r => r.State).HasFilter("\"State\" <> 'ended'");
        modelBuilder.Entity<Run>().HasIndex(r => new { r.Job, r.Id });
        // The last run of each of hundreds of machines is sought, and not found by going through those of all of them.
        modelBuilder
            .Entity<Run>()
            .HasIndex(r => new
            {
                r.Job,
                r.Machine,
                r.Id,
            });
        modelBuilder
            .Entity<Run>()
            .HasIndex(r => new
            {
                r.Store,
                r.Kind,
                r.Id,
            });
        modelBuilder.Entity<Run>().HasIndex(r => r.PlannedRunId);
        modelBuilder.Entity<Run>().HasIndex(r => r.Queued);
        modelBuilder.Entity<Copy>().HasKey(c => new { c.Id, c.Store });
        modelBuilder.Entity<Copy>().HasIndex(c => c.Origin);
        modelBuilder
            .Entity<Copy>()
            .HasIndex(c => new
            {
                c.Job,
                c.Machine,
                c.Store,
                c.Taken,
            });
        modelBuilder.Entity<Copy>().HasIndex(c => new { c.Store, c.Taken });
        modelBuilder.Entity<Copy>().HasIndex(c => c.Taken);
        modelBuilder.Entity<Copy>().HasIndex(c => c.RunId);
        // What is asked of copies in force stands in it, so that they are counted without being read.
        modelBuilder
            .Entity<Copy>()
            .HasIndex(c => new
            {
                c.Machine,
                c.Job,
                c.Store,
                c.Taken,
                c.GoneAt,
                c.BinnedAt,
            })
            .HasFilter("\"GoneAt\" IS NULL AND \"BinnedAt\" IS NULL");
        modelBuilder.Entity<PrunePlanRow>().HasKey(p => p.Fingerprint);
        modelBuilder
            .Entity<PrunePlanRow>()
            .HasIndex(p => new
            {
                p.Job,
                p.Store,
                p.AppliedAt,
            });
        modelBuilder.Entity<Alert>().Ignore(a => a.Subject);
        modelBuilder
            .Entity<Alert>()
            .HasIndex(a => new
            {
                a.Class,
                a.SubjectKind,
                a.SubjectJob,
                a.SubjectStore,
                a.Id,
            });
        modelBuilder.Entity<Copy>().HasIndex(c => c.BinnedAt).HasFilter("\"BinnedAt\" IS NOT NULL");
        modelBuilder.Entity<Copy>().HasIndex(c => c.GoneAt).HasFilter("\"GoneAt\" IS NOT NULL");
        modelBuilder.Entity<Alert>().HasIndex(a => a.OpenedAt);
        modelBuilder.Entity<Alert>().HasIndex(a => a.ClosedAt).HasFilter("\"ClosedAt\" IS NOT NULL");
        modelBuilder.Entity<Alert>().HasIndex(a => a.State).HasFilter("\"State\" <> 'closed'");
        modelBuilder.Entity<Alert>().Property(a => a.Severity).HasDefaultValue(Severity.Failure).HasSentinel(Severity.Failure);
        modelBuilder.Entity<AlertDeed>().HasIndex(d => new { d.AlertId, d.Id });
        modelBuilder.Entity<Ticket>().HasIndex(t => new { t.AlertId, t.Channel });
        modelBuilder.Entity<KeptReport>().HasIndex(r => r.MadeAt);
        modelBuilder.Entity<FollowerPosition>().HasKey(f => f.Name);
        modelBuilder.Entity<Lease>().HasKey(l => l.Name);
        modelBuilder.Entity<RoomPromise>().HasKey(p => new { p.RunId, p.Store });
        modelBuilder.Entity<LogLine>().HasKey(l => new { l.RunId, l.Line });
        modelBuilder.Entity<SealingKey>().HasKey(k => k.Name);
    }

    protected override void ConfigureConventions(ModelConfigurationBuilder configurationBuilder)
    {
        configurationBuilder.Properties<Instant>().HaveConversion<InstantConverter>();
        configurationBuilder.Properties<RunKind>().HaveConversion<WordConverter<RunKind>>();
        configurationBuilder.Properties<RunState>().HaveConversion<WordConverter<RunState>>();
        configurationBuilder.Properties<LogSeverity>().HaveConversion<WordConverter<LogSeverity>>();
        configurationBuilder.Properties<AlertState>().HaveConversion<WordConverter<AlertState>>();
        configurationBuilder.Properties<AlertClass>().HaveConversion<WordConverter<AlertClass>>();
        configurationBuilder.Properties<Severity>().HaveConversion<WordConverter<Severity>>();
        configurationBuilder.Properties<AlertDeedKind>().HaveConversion<WordConverter<AlertDeedKind>>();
        configurationBuilder.Properties<SubjectKind>().HaveConversion<WordConverter<SubjectKind>>();
        configurationBuilder.Properties<ReportPeriod>().HaveConversion<WordConverter<ReportPeriod>>();
        configurationBuilder.Properties<ActorKind>().HaveConversion<WordConverter<ActorKind>>();
        configurationBuilder.Properties<FactKind>().HaveConversion<WordConverter<FactKind>>();
        configurationBuilder.Properties<PlannedStand>().HaveConversion<WordConverter<PlannedStand>>();
        configurationBuilder.Properties<Outcome>().HaveConversion<WordConverter<Outcome>>();
        configurationBuilder.Properties<FailureClass>().HaveConversion<WordConverter<FailureClass>>();
        configurationBuilder.Properties<Coverage>().HaveConversion<WordConverter<Coverage>>();
        configurationBuilder.Properties<CopyKind>().HaveConversion<WordConverter<CopyKind>>();
        configurationBuilder.Properties<CopyState>().HaveConversion<WordConverter<CopyState>>();
        if (this.IsPostgres())
            configurationBuilder.Properties<string>().UseCollation("C").HaveConversion<NoNullsConverter>();
    }

    private sealed class InstantConverter() : ValueConverter<Instant, long>(i => i.ToUnixTimeTicks(), t => Instant.FromUnixTimeTicks(t));

    /// <summary>
    /// A text of PostgreSQL holds no null character; one that comes from outside is kept as the mark for what cannot be shown.
    /// </summary>
    private sealed class NoNullsConverter() : ValueConverter<string, string>(s => s.Replace('\0', '\uFFFD'), s => s);

    private sealed class WordConverter<T>() : ValueConverter<T, string>(v => Kebab.Of(v), s => Kebab.Read<T>(s)!.Value)
        where T : struct, Enum;
}
