using IronKeep.Core.Schedules;
using IronKeep.Service.Catalogue;
using IronKeep.Service.Charters;
using IronKeep.Service.Prunes;
using IronKeep.Service.Runs;
using IronKeep.Service.Timetable;
using NodaTime;

namespace IronKeep.Demo;

/// <summary>
/// Plays the last nights through the real engine: the clock moves from one due instant to the next, and everything that the
/// service does, it really does. A few honest troubles are put in its way.
/// </summary>
internal sealed class Nights(IServiceProvider services, PlayedClock clock, SaltmereData data, string stores, string person)
{
    public const int Count = 14;
    private readonly ClockLoop loop = services.GetRequiredService<ClockLoop>();
    private readonly Dispatch dispatch = services.GetRequiredService<Dispatch>();
    private readonly CharterInForce charter = services.GetRequiredService<CharterInForce>();
    private readonly RunQueue queue = services.GetRequiredService<RunQueue>();
    private readonly PruneDesk prunes = services.GetRequiredService<PruneDesk>();

    /// <summary>The noon at which the first night begins that is played up to <paramref name="until"/>.</summary>
    public static DateTimeOffset Before(DateTimeOffset until, DateTimeZone zone) =>
        Noon(Instant.FromDateTimeOffset(until).InZone(zone).Date.PlusDays(-Count), zone);

    public async Task PlayAsync(DateTimeOffset until, CancellationToken cancel)
    {
        var zone = charter.Charter.Zone;
        var last = Instant.FromDateTimeOffset(until).InZone(zone).Date;
        for (var night = 0; night < Count; night++)
        {
            var date = last.PlusDays(night - Count);
            await PlayNightAsync(night, Noon(date, zone), Min(Noon(date.PlusDays(1), zone), until), cancel);
            Console.WriteLine($"  night {night + 1,2} of {Count}, {date:uuuu-MM-dd}");
        }
        // The rest of today, up to the present; then a bit turns over on the lighthouse's disk, and a check finds it.
        await PlayNightAsync(Count, Noon(last, zone), until, cancel);
        FlipOneByte(Path.Combine(stores, "lighthouse"));
        await AskAsync(RunKind.Check, "lighthouse", cancel);
    }

    private static DateTimeOffset Noon(LocalDate date, DateTimeZone zone) => date.At(LocalTime.Noon).InZoneLeniently(zone).ToDateTimeOffset();

    private async Task PlayNightAsync(int night, DateTimeOffset from, DateTimeOffset to, CancellationToken cancel)
    {
        if (from >= to) return;
        clock.MoveTo(from);
        if (night < Count) data.Pass(DateOnly.FromDateTime(from.UtcDateTime));
        BeginTrouble(night);
        var off = night == 8;
        foreach (var due in Due(from, to))
        {
            // The machine that the service runs on is off this night: nothing runs, and nothing is forgotten.
            if (off && due < to.AddHours(-4)) continue;
            clock.MoveTo(due.AddSeconds(2));
            await loop.TickAsync(cancel);
            await dispatch.WhenIdleAsync(cancel);
        }
        EndTrouble(night);
        // What the last night made superfluous is left for a person to look at.
        if (night >= Count - 1) return;
        clock.MoveTo(to.AddHours(-3));
        await TidyAsync(night, cancel);
    }

    private async Task TidyAsync(int night, CancellationToken cancel)
    {
        foreach (var job in charter.Charter.Jobs.Keys)
        {
            if (await prunes.PlanAsync(job, cancel) is not { } plan || plan.Counts["expire"] == 0) continue;
            await queue.AddAsync(RunKind.Prune, job, plan.Store, person, new PruneOrder(plan.Fingerprint), cancel);
            await dispatch.WhenIdleAsync(cancel);
        }
        if (night % 4 == 3) await AskAsync(RunKind.Reclaim, "lighthouse", cancel);
        if (night % 6 == 5) foreach (var store in charter.Charter.Stores.Keys) await AskAsync(RunKind.Check, store, cancel);
    }

    private async Task AskAsync(RunKind kind, string store, CancellationToken cancel)
    {
        await queue.AddAsync(kind, null, store, person, null, cancel);
        await dispatch.WhenIdleAsync(cancel);
    }

    private void BeginTrouble(int night)
    {
        // The lighthouse's disk is not mounted; on another night the web site's folder was renamed by whoever works on it.
        if (night == 4) Directory.Move(Path.Combine(stores, "lighthouse"), Path.Combine(stores, "lighthouse-away"));
        if (night is 10 or Count - 1) Directory.Move(Path.Combine(data.Root, "web-site"), Path.Combine(data.Root, "web-site-new"));
    }

    private void EndTrouble(int night)
    {
        if (night == 4) Directory.Move(Path.Combine(stores, "lighthouse-away"), Path.Combine(stores, "lighthouse"));
        if (night is 10) Directory.Move(Path.Combine(data.Root, "web-site-new"), Path.Combine(data.Root, "web-site"));
    }

    /// <summary>What a failing disk does: one bit in the middle of the newest pack that holds pictures.</summary>
    private static void FlipOneByte(string store)
    {
        var pack = new DirectoryInfo(Path.Combine(store, "packs")).EnumerateFiles("*.pack", SearchOption.AllDirectories)
            .Where(f => f.Length > 200_000).OrderByDescending(f => f.LastWriteTimeUtc).First();
        using var file = pack.Open(FileMode.Open);
        file.Position = pack.Length / 2;
        var value = file.ReadByte();
        file.Position = pack.Length / 2;
        file.WriteByte((byte)(value ^ 0x10));
    }

    private List<DateTimeOffset> Due(DateTimeOffset from, DateTimeOffset to) =>
        [.. charter.Charter.Jobs.Values.Where(j => j.When is not null)
            .SelectMany(j => DueInstants.Between(j.When!, j.Zone ?? charter.Charter.Zone, Instant.FromDateTimeOffset(from), Instant.FromDateTimeOffset(to)))
            .Distinct().Order().Select(i => i.ToDateTimeOffset())];

    private static DateTimeOffset Min(DateTimeOffset a, DateTimeOffset b) => a < b ? a : b;
}
