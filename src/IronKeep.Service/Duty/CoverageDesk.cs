using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Machines;
using IronKeep.Core.Quantities;
using IronKeep.Core.Watching;
using IronKeep.Service.Basics;
using IronKeep.Service.Charters;
using IronKeep.Service.Timetable;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.Options;
using NodaTime;

namespace IronKeep.Service.Duty;

/// <summary>
/// Says of every machine how it is protected, and since when it is so. Machines are those that the charter declares, that jobs name, that
/// have an agent or a code, and the service's own. Source: docs/semantics.md, section 13 (Coverage).
/// </summary>
public sealed class CoverageDesk(CharterInForce inForce, FreshnessNow freshness, TimeProvider clock, IOptions<ServiceSettings> settings)
    : ILook
{
    /// <summary>Alerts of a job that say that a run of it did not come off.</summary>
    internal static readonly AlertClass[] Failing = [AlertClass.Failed, AlertClass.Missed, AlertClass.Overdue];

    public Duration Every { get; } = Duration.FromMinutes(1);

    /// <summary>By name, in order of name.</summary>
    public async Task<IReadOnlyList<(string Machine, MachineCoverage Coverage)>> OfAsync(KeepContext db, CancellationToken cancel)
    {
        var (charter, now) = (inForce.Charter, clock.Now());
        var standing = await freshness.OfAsync(db, charter, now, cancel);
        var pauses = await db
            .JobsOnMachines.AsNoTracking()
            .Where(w => w.PausedUntil > now)
            .ToDictionaryAsync(w => (w.Job, w.Machine), cancel);
        var trouble = await db
            .Alerts.AsNoTracking()
            .Where(a => a.State != AlertState.Closed && (Failing.Contains(a.Class) || a.Class == AlertClass.Silent))
            .ToListAsync(cancel);
        var failing = trouble
            .Where(a => a.Class != AlertClass.Silent && a.SubjectKind == SubjectKind.Job)
            .ToLookup(a => (a.Subject.Job!, a.Subject.Machine));
        var silent = trouble.Where(a => a.Class == AlertClass.Silent).ToLookup(a => a.Subject.Machine);
        var agents = await db.Agents.AsNoTracking().ToDictionaryAsync(a => a.Machine, a => a.HeardAt, cancel);
        return
        [
            .. (await NamesAsync(db, charter, cancel)).Select(name =>
                (
                    name,
                    MachineCoverage.Of(
                        charter,
                        name,
                        silent[name].Any() && agents.TryGetValue(name, out var heard) ? heard.Local(charter.Zone) : null,
                        [.. charter.Placed.At(name).Select(Of)]
                    )
                )
            ),
        ];

        CoveredJob Of(PlacedJob job)
        {
            var key = (job.Name, job.Machine);
            return pauses.TryGetValue(key, out var pause)
                ? new CoveredJob(job.Name, null, $"by {pause.PausedBy} until {pause.PausedUntil!.Value.Local(charter.ZoneOf(job))}")
                : new CoveredJob(job.Name, LateOf(job, standing[key], failing[key].FirstOrDefault()), null);
        }

        string? LateOf(PlacedJob job, Standing at, Alert? alert)
        {
            if (Freshness.Behind(job, at, now) is { Newest: { } newest } behind)
                return $"promises a copy within {job.FreshWithin} and has none since {newest.Taken.Local(charter.ZoneOf(job))} in "
                    + behind.Store;
            if (job.Into.FirstOrDefault(s => !at.NewestIn.ContainsKey(s)) is { } without)
                return at.Newest is null ? "has no good copy yet" : $"has no good copy in {without} yet";
            return alert?.Class switch
            {
                null => null,
                AlertClass.Failed => "fails",
                AlertClass.Missed => "was missed",
                _ => "is overdue",
            };
        }
    }

    /// <summary>Every machine that anything is known of.</summary>
    public async Task<IReadOnlyCollection<string>> NamesAsync(KeepContext db, Charter charter, CancellationToken cancel)
    {
        var now = clock.Now();
        var names = new SortedSet<string>(charter.Machines.Keys, StringComparer.Ordinal) { settings.Value.Machine };
        names.UnionWith(charter.Placed.All.Select(j => j.Machine));
        names.UnionWith(await db.Agents.Select(a => a.Machine).ToListAsync(cancel));
        names.UnionWith(await db.JoiningCodes.Where(c => c.UsedAt == null && c.Until >= now).Select(c => c.Machine).ToListAsync(cancel));
        return names;
    }

    /// <summary>Notes which machines have changed their class, so that it is known since when.</summary>
    public async Task LookAsync(KeepContext db, CancellationToken cancel)
    {
        var now = clock.Now();
        var rows = await db.MachineCoverages.ToDictionaryAsync(r => r.Machine, cancel);
        foreach (var (machine, coverage) in await OfAsync(db, cancel))
        {
            if (!rows.Remove(machine, out var row))
                db.MachineCoverages.Add(
                    new CoverageSince
                    {
                        Machine = machine,
                        Class = coverage.Class,
                        Since = now,
                    }
                );
            else if (row.Class != coverage.Class)
                (row.Before, row.Class, row.Since) = (row.Class, coverage.Class, now);
        }
        db.MachineCoverages.RemoveRange(rows.Values);
        await db.SaveChangesAsync(cancel);
    }

    /// <summary>How long what changed is news: each morning's look at the duty page sees it once.</summary>
    private static readonly Duration IsNews = Duration.FromDays(1);

    /// <summary>So many are named.</summary>
    private const int MostNamed = 12;

    /// <summary>
    /// The sums, what has come into a class that somebody should look at, and which machines jobs have taken by themselves.
    /// </summary>
    public async Task<DutyCoverage> DutyAsync(KeepContext db, CancellationToken cancel)
    {
        var (charter, now) = (inForce.Charter, clock.Now());
        var all = await OfAsync(db, cancel);
        var since = (await db.MachineCoverages.AsNoTracking().Where(r => r.Since > now - IsNews).ToListAsync(cancel)).ToDictionary(r =>
            r.Machine
        );
        var bad = all.Where(m => m.Coverage.IsBad && since.GetValueOrDefault(m.Machine)?.Class == m.Coverage.Class)
            .Select(m => new CoverageNews(
                m.Machine,
                m.Coverage.Class,
                m.Coverage.Why,
                since[m.Machine].Since.ToDateTimeOffset(),
                since[m.Machine].Before
            ))
            .ToList();
        var taken = await TakenAsync(db, charter, now, cancel);
        var today = now.InZone(charter.Zone).Date;
        var decisions = charter
            .Machines.Values.Where(m => m.Retired?.DecideBy <= today)
            .Select(m => RetiredCopies(m, charter, now)!)
            .ToList();
        return new DutyCoverage(
            Enum.GetValues<Coverage>().ToDictionary(c => Kebab.Of(c), c => all.Count(m => m.Coverage.Class == c)),
            [.. bad.Take(MostNamed)],
            bad.Count,
            [.. taken.Take(MostNamed)],
            taken.Count,
            decisions,
            [
                .. (await db.Agents.AsNoTracking().Where(a => a.CameAs != null).ToListAsync(cancel)).Select(a => new CameBack(
                    a.Machine,
                    a.CameAs!,
                    a.CameAsAt!.Value.ToDateTimeOffset()
                )),
            ]
        );
    }

    /// <summary>What becomes of a machine's copies, where it is retired.</summary>
    public static RetiredCopies? RetiredCopies(MachineDefinition? machine, Charter charter, Instant now) =>
        machine?.Retired is { } retired
            ? new RetiredCopies(
                machine.Name,
                retired.CopiesOwner,
                retired.Days.DecideBy,
                retired.Days.CopiesUntil,
                retired.CopiesUntil < now.InZone(charter.Zone).Date
            )
            : null;

    /// <summary>
    /// Machines that a job by an expression, or on the rest, has taken later than others: those with which it began are no news.
    /// </summary>
    private static async Task<List<MachineTaken>> TakenAsync(KeepContext db, Charter charter, Instant now, CancellationToken cancel)
    {
        var rows = await db
            .JobsOnMachines.AsNoTracking()
            .Where(w => w.Since > now - IsNews)
            .Select(w => new
            {
                w.Job,
                w.Machine,
                w.Since,
            })
            .ToListAsync(cancel);
        var jobs = rows.Select(r => r.Job).Distinct().ToList();
        var first = await db
            .JobsOnMachines.Where(w => jobs.Contains(w.Job))
            .GroupBy(w => w.Job)
            .Select(g => new { g.Key, Since = g.Min(w => w.Since) })
            .ToDictionaryAsync(g => g.Key, g => g.Since, cancel);
        return
        [
            .. rows.Where(r =>
                    r.Since > first[r.Job]
                    && charter.Placed.Find(r.Job, r.Machine)?.Selection.Kind is SelectionKind.Expressed or SelectionKind.Rest
                )
                .OrderByDescending(r => r.Since)
                .ThenBy(r => r.Machine, StringComparer.Ordinal)
                .Select(r => new MachineTaken(r.Job, r.Machine, r.Since.ToDateTimeOffset())),
        ];
    }
}
