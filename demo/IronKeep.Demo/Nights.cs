using IronKeep.Catalogue;
using IronKeep.Core.Charters;
using IronKeep.Core.Prunes;
using IronKeep.Core.Schedules;
using IronKeep.Core.Watching;
using IronKeep.Service.Basics;
using IronKeep.Service.Charters;
using IronKeep.Service.Facts;
using IronKeep.Service.Hearing;
using IronKeep.Service.Prunes;
using IronKeep.Service.Runs;
using IronKeep.Service.Telling;
using IronKeep.Service.Timetable;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace IronKeep.Demo;

/// <summary>
/// Plays the last nights through the real engine: the clock moves from one due instant to the next, and everything that the
/// service does, it really does. Honest troubles are put in its way.
/// </summary>
internal sealed class Nights(IServiceProvider services, PlayedClock clock, SaltmereData data, string stores, string person)
{
    public const int Count = 30;
    private readonly ClockLoop loop = services.GetRequiredService<ClockLoop>();
    private readonly Dispatch dispatch = services.GetRequiredService<Dispatch>();
    private readonly CharterInForce charter = services.GetRequiredService<CharterInForce>();
    private readonly RunQueue queue = services.GetRequiredService<RunQueue>();
    private readonly PruneDesk prunes = services.GetRequiredService<PruneDesk>();
    private readonly HearingDesk hearing = services.GetRequiredService<HearingDesk>();
    private readonly LogWatching logs = services.GetRequiredService<LogWatching>();
    private readonly FolderWatching folders = services.GetRequiredService<FolderWatching>();
    private readonly SyslogSpool spool = services.GetRequiredService<SyslogSpool>();
    private readonly string machine = services.GetRequiredService<Microsoft.Extensions.Options.IOptions<ServiceSettings>>().Value.Machine;
    private readonly Teller teller = services.GetRequiredService<Teller>();
    private readonly IDbContextFactory<KeepContext> catalogue = services.GetRequiredService<IDbContextFactory<KeepContext>>();

    /// <summary>The noon at which the first night begins that is played up to <paramref name="until"/>.</summary>
    public static DateTimeOffset Before(DateTimeOffset until, DateTimeZone zone) =>
        Noon(Instant.FromDateTimeOffset(until).InZone(zone).Date.PlusDays(-Count), zone);

    public async Task PlayAsync(DateTimeOffset until, CancellationToken cancel)
    {
        var zone = charter.Charter.Zone;
        var last = Instant.FromDateTimeOffset(until).InZone(zone).Date;
        var troubles = new Troubles(data.Root, stores, last.PlusDays(-Count));
        for (var night = 0; night < Count; night++)
        {
            var date = last.PlusDays(night - Count);
            await PlayNightAsync(troubles, night, date, Noon(date, zone), Min(Noon(date.PlusDays(1), zone), until), cancel);
            if (night % 5 == 4)
                Console.WriteLine($"  {night + 1} of {Count} nights, up to {date:uuuu-MM-dd}");
        }
        // The rest of today, up to the present; then a bit turns over on the lighthouse's disk, and a check finds it.
        await PlayNightAsync(troubles, Count, last, Noon(last, zone), until, cancel);
        Troubles.FlipOneByte(Path.Combine(stores, "lighthouse"));
        await AskAsync(RunKind.Check, "lighthouse", cancel);
        await teller.CarryAsync(cancel);
    }

    private static DateTimeOffset Noon(LocalDate date, DateTimeZone zone) =>
        date.At(LocalTime.Noon).InZoneLeniently(zone).ToDateTimeOffset();

    private async Task PlayNightAsync(
        Troubles troubles,
        int night,
        LocalDate date,
        DateTimeOffset from,
        DateTimeOffset to,
        CancellationToken cancel
    )
    {
        if (from >= to)
            return;
        clock.MoveTo(from);
        if (night < Count)
            data.Pass(DateOnly.FromDateTime(from.UtcDateTime));
        troubles.Begin(night);
        foreach (var due in Due(from, to))
        {
            // The machine that the service runs on is off: nothing runs, and nothing is forgotten.
            if (troubles.IsOff(date))
                continue;
            clock.MoveTo(due.AddSeconds(2));
            await HearAsync(night, due, cancel);
            await LookAsync(troubles.Crawls(night) && due.UtcDateTime is { Hour: 1 or 2, Minute: 30 }, cancel);
            // What waits a little, such as a run that makes up for missed ones.
            while (await NextWaitingAsync(cancel) is { } next && next < to)
            {
                clock.MoveTo(next.AddSeconds(1));
                await LookAsync(false, cancel);
            }
        }
        troubles.End(night);
        // What the last night made superfluous is left for a person to look at.
        if (night >= Count - 1 || troubles.IsOff(date))
            return;
        clock.MoveTo(to.AddHours(-3));
        await TidyAsync(night, cancel);
    }

    /// <summary>What other machines say of their own jobs, 20 minutes after they were due.</summary>
    private async Task HearAsync(int night, DateTimeOffset at, CancellationToken cancel)
    {
        var said = Instant.FromDateTimeOffset(at) - Troubles.SaysAfter;
        var elsewhere = new Elsewhere(data.Root, stores, charter.Charter.Zone, hearing, spool);
        var spoke = false;
        foreach (var job in charter.Charter.Placed.All.Where(j => j.Watched))
        {
            if (charter.Charter.DueTimesOf(job)!.Next(said - Duration.FromSeconds(1)) != said)
                continue;
            await loop.TickAsync(cancel);
            await elsewhere.SayAsync(job, night, said);
            spoke = true;
        }
        if (!spoke)
            return;
        // What was left settles between two looks.
        await logs.LookAsync(cancel);
        await folders.LookAsync(cancel);
        clock.MoveTo(at.AddMinutes(3));
    }

    /// <summary>One look of the service at its clock, and all the work that follows from it.</summary>
    private async Task LookAsync(bool crawls, CancellationToken cancel)
    {
        await loop.TickAsync(cancel);
        await folders.LookAsync(cancel);
        var idle = dispatch.WhenIdleAsync(cancel);
        while (crawls && !idle.IsCompleted)
        {
            // A machine that crawls: hours pass while the run is at its reading.
            if (dispatch.AtWork.FirstOrDefault(r => r.Now.ReadBytes > 0) is { } run)
            {
                clock.MoveTo(run.Run.Began!.Value.ToDateTimeOffset().AddMinutes(125));
                await loop.TickAsync(cancel);
                crawls = false;
            }
            await Task.Delay(2, cancel);
        }
        await idle;
        await teller.CarryAsync(cancel);
    }

    private async Task<DateTimeOffset?> NextWaitingAsync(CancellationToken cancel)
    {
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        return (await db.Runs.Where(r => r.State == RunState.Queued).MinAsync(r => r.NotBefore, cancel))?.ToDateTimeOffset();
    }

    private async Task TidyAsync(int night, CancellationToken cancel)
    {
        foreach (var job in charter.Charter.Placed.All)
        {
            foreach (var store in job.Into)
            {
                var plan = await prunes.PlanAsync(job, job.Machine, store, null, cancel);
                // What is tied to success needs a hand only where the brake holds it, as after a store was away.
                if (plan.Counts["expire"] == 0 || (job.Prune == PruneTime.AfterSuccess && plan.Brake.Count == 0))
                    continue;
                if (plan.Brake.Count > 0)
                    await prunes.ConfirmAsync(plan.Fingerprint!, person, "looked at it: the runs of some days come at once", cancel);
                await queue.AddAsync(
                    new RunRequest(RunKind.Prune, job.Name, store, Actor.Person(person))
                    {
                        Machine = plan.Machine,
                        Order = new PruneOrder(plan.Fingerprint!),
                    },
                    cancel
                );
                await dispatch.WhenIdleAsync(cancel);
            }
        }
        if (night % 12 == 11)
            await AskAsync(RunKind.Check, "marsh-house", cancel);
    }

    private async Task AskAsync(RunKind kind, string store, CancellationToken cancel)
    {
        await queue.AddAsync(new RunRequest(kind, null, store, Actor.Person(person)), cancel);
        await dispatch.WhenIdleAsync(cancel);
    }

    private List<DateTimeOffset> Due(DateTimeOffset from, DateTimeOffset to)
    {
        var all = charter.Charter;
        var (after, upTo) = (Instant.FromDateTimeOffset(from), Instant.FromDateTimeOffset(to));
        var times = all.Placed.All.Select(j => all.DueTimesOf(j)).OfType<DueTimes>().ToList();
        Schedule?[] own = [all.DutyMail, .. all.Stores.Values.SelectMany(s => new[] { s.VerifyWhen, s.ReclaimWhen })];
        times.AddRange(own.OfType<Schedule>().Select(s => new DueTimes(s, all.Zone)));
        var due = times.SelectMany(t => t.Between(after, upTo));
        var heard = all
            .Placed.All.Where(j => j.Watched)
            .SelectMany(j => all.DueTimesOf(j)!.Between(after - Troubles.SaysAfter, upTo - Troubles.SaysAfter))
            .Select(i => i + Troubles.SaysAfter);
        // And once more when what was not heard of is late.
        var late = all
            .Placed.All.Where(j => j.Watched)
            .SelectMany(j =>
                all.DueTimesOf(j)!
                    .Between(after - j.StartLimit.ToDuration(), upTo - j.StartLimit.ToDuration())
                    .Select(i => i + j.StartLimit.ToDuration() + Duration.FromSeconds(1))
            );
        // And when the copy that a run leaves should be there at the latest.
        var left = all
            .Placed.All.Where(j => j.Watched && j.Into.Length > 0)
            .SelectMany(j =>
                all.DueTimesOf(j)!
                    .Between(after - Charter.LimitOf(j), upTo - Charter.LimitOf(j))
                    .Select(i => i + Charter.LimitOf(j) + Duration.FromMinutes(8))
            );
        return [.. due.Concat(heard).Concat(late).Concat(left).Distinct().Order().Select(i => i.ToDateTimeOffset())];
    }

    private static DateTimeOffset Min(DateTimeOffset a, DateTimeOffset b) => a < b ? a : b;
}
