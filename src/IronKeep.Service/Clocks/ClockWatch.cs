using System.Globalization;
using IronKeep.Catalogue;
using IronKeep.Core.Charters;
using IronKeep.Core.Forecasts;
using IronKeep.Core.Quantities;
using IronKeep.Core.Schedules;
using IronKeep.Core.Watching;
using IronKeep.Service.Alerts;
using IronKeep.Service.Basics;
using IronKeep.Service.Catalogue;
using IronKeep.Service.Charters;
using IronKeep.Service.Facts;
using IronKeep.Service.Workers;
using IronKeep.Stores.Posix;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.Options;
using NodaTime;

namespace IronKeep.Service.Clocks;

/// <summary>A clock that jumped: from which instant to which, as the service saw it.</summary>
public sealed record ClockDoubt(Instant From, Instant To)
{
    public bool Forward => To > From;

    /// <summary>The matter as one clause.</summary>
    public string Words(DateTimeZone zone) =>
        $"the clock of this machine jumped {(Forward ? "forward" : "back")} by {Age(To - From)}, from {From.Local(zone)} to "
        + $"{To.Local(zone)} ({zone.Id})";

    private static string Age(Duration jump) =>
        Math.Abs(jump.TotalDays) >= 1.5
            ? Counted.Of((long)Math.Round(Math.Abs(jump.TotalDays)), "day")
            : Counted.Of((long)Math.Round(Math.Abs(jump.TotalHours)), "hour");
}

/// <summary>
/// Compares the clock with the time that has really passed. While it is in doubt nothing expires, and the due instants in between
/// are neither missed nor served: a clock set right again takes up where it was, a person can confirm that the new time is the
/// right one. Also notices when the service itself was silent. Source: docs/semantics.md, sections 2, 4 and 8.
/// </summary>
public sealed class ClockWatch(
    IDbContextFactory<KeepContext> catalogue,
    AlertBook alerts,
    Leading leading,
    FactSignal signal,
    TimeProvider clock,
    CatalogueGuard heard,
    Charters.CharterInForce charter,
    IOptions<ServiceSettings> settings
)
{
    private static readonly Duration Tolerated = Duration.FromDays(1);
    private static readonly Duration BeatEvery = Duration.FromMinutes(1);

    /// <summary>A clock that was set by less than this (by a time server, say) is no jump.</summary>
    private static readonly Duration Slight = Duration.FromMinutes(2);
    private const string HeardKey = "heard";
    private const string DoubtKey = "clock-doubt";
    private long ledAs = -1;
    private (Instant Wall, long Stamp)? last;
    private Instant beat;
    private volatile ClockDoubt? doubt;

    /// <summary>Why nothing may expire now, as a clause; null when the clock is trusted.</summary>
    public async Task<string?> DoubtAsync(CancellationToken cancel)
    {
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        return await DoubtAsync(db, cancel);
    }

    /// <summary>The same by the caller's context. The catalogue says it, so every service on it knows.</summary>
    public async Task<string?> DoubtAsync(KeepContext db, CancellationToken cancel) =>
        (await ReadDoubtAsync(db, cancel))?.Words(charter.Charter.Zone);

    private static async Task<ClockDoubt?> ReadDoubtAsync(KeepContext db, CancellationToken cancel) =>
        await ReadAsync(db, DoubtKey, cancel) is { } text && text.Split(' ') is [var from, var to]
            ? new ClockDoubt(Parse(from), Parse(to))
            : null;

    /// <summary>One look, at the beginning of a tick; the caller holds the loop.</summary>
    public async Task LookAsync(KeepContext db, CancellationToken cancel)
    {
        if (ledAs != leading.Term)
        {
            // Somebody else has looked since: what the catalogue says counts.
            (ledAs, last, doubt) = (leading.Term, null, null);
        }
        var now = clock.Now();
        if (last is not { } before)
            await BeginAsync(db, now, cancel);
        else if (doubt is null && Drift(before, now) is { } drift && Duration.Max(drift, -drift) > Tolerated)
            await BeginDoubtAsync(db, new ClockDoubt(now - drift, now), cancel);
        else if (doubt is null)
        {
            if (Drift(before, now) < -Slight)
                await GoBackAsync(db, now, cancel);
            await JudgeSilenceAsync(before.Wall, now, cancel);
        }
        else if (Drift(before, now) < -Slight)
            await GoBackAsync(db, now, cancel);
        if (doubt is { } at && (at.Forward ? now < at.To - Tolerated : now > at.From))
            await EndDoubtAsync(db, servesGap: false, cancel);
        last = (now, clock.GetTimestamp());
        // A catalogue that took nothing is tried in each round: when it takes something again, all goes on.
        if (doubt is null && (Duration.Max(now - beat, beat - now) >= BeatEvery || heard.Problem is not null))
        {
            await WriteAsync(db, HeardKey, $"{Text(now)} {Boot} {clock.GetTimestamp()}", cancel);
            beat = now;
            heard.Note(now);
        }
    }

    /// <summary>A person says that the time is right as it is now; false when nothing was in doubt. The caller holds the loop.</summary>
    public async Task<bool> ConfirmAsync(KeepContext db, CancellationToken cancel)
    {
        doubt = await ReadDoubtAsync(db, cancel);
        if (doubt is null)
            return false;
        await EndDoubtAsync(db, servesGap: true, cancel);
        return true;
    }

    private Duration Drift((Instant Wall, long Stamp) before, Instant now) =>
        now - before.Wall - Duration.FromTimeSpan(clock.GetElapsedTime(before.Stamp));

    private async Task BeginAsync(KeepContext db, Instant now, CancellationToken cancel)
    {
        doubt = await ReadDoubtAsync(db, cancel);
        if (await ReadAsync(db, HeardKey, cancel) is not { } stored || doubt is not null)
            return;
        var parts = stored.Split(' ');
        var last = Parse(parts[0]);
        // Where the steady clock went on since, it tells how long the service was away; else the newest instant that was trusted is all
        // there is.
        var expected =
            parts is [_, var boot, var stamp]
            && boot == Boot
            && boot != NoBoot
            && long.TryParse(stamp, NumberStyles.None, CultureInfo.InvariantCulture, out var then)
                ? last + Duration.FromTimeSpan(clock.GetElapsedTime(then))
                : (Instant?)null;
        if (expected is { } should ? Duration.Max(now - should, should - now) > Tolerated : now < last - Tolerated)
        {
            await BeginDoubtAsync(db, new ClockDoubt(expected ?? last, now), cancel);
            return;
        }
        // Another boot of the machine: nothing tells how long it was off but the clock, which then must be one that is kept right from
        // outside.
        if (expected is null && parts.Length == 3 && Boot != NoBoot && now > last + Tolerated && steady is { IsKeptRight: false })
        {
            await BeginDoubtAsync(db, new ClockDoubt(last, now), cancel);
            return;
        }
        if (now < last - Slight)
            await GoBackAsync(db, now, cancel);
        await JudgeSilenceAsync(last, now, cancel);
    }

    private const string NoBoot = "-";
    private readonly ISteadyClock? steady = clock as ISteadyClock;

    private string Boot => steady?.BootId ?? NoBoot;

    /// <summary>
    /// The clock went back: schedules go on in the new time. What was planned for times that are to come again, and never began, is planned
    /// again when they come; what has run is not run twice, because it is stored.
    /// </summary>
    private async Task GoBackAsync(KeepContext db, Instant now, CancellationToken cancel)
    {
        await using var change = await leading.BeginAsync(db, cancel);
        await GoBackInAsync(db, now, cancel);
        await change.CommitAsync(cancel);
    }

    private static async Task GoBackInAsync(KeepContext db, Instant now, CancellationToken cancel)
    {
        foreach (var watch in await db.JobsOnMachines.Where(w => w.Watermark > now).ToListAsync(cancel))
            watch.Watermark = now;
        foreach (var watch in await db.TimedMarks.Where(w => w.Watermark > now).ToListAsync(cancel))
            watch.Watermark = now;
        await db.SaveChangesAsync(cancel);
        await db.PlannedRuns.Where(p => p.Due > now && p.RunId == null && p.MadeUpBy == null).ExecuteDeleteAsync(cancel);
    }

    private async Task JudgeSilenceAsync(Instant heard, Instant now, CancellationToken cancel)
    {
        if (now - heard <= settings.Value.SilenceLimit.ToDuration())
            return;
        await alerts.RaiseAsync(
            new Matter(
                Subject.OfMachine(settings.Value.Machine),
                AlertClass.Silent,
                $"nothing was heard from {settings.Value.Machine} from {heard.Local(charter.Charter.Zone)} to "
                    + $"{now.Local(charter.Charter.Zone)}: it was off or asleep, or the service did not run",
                "Find out why (power, sleep, service stopped); what was due meanwhile is listed as missed, and the next good run closes "
                    + "this."
            ),
            cancel
        );
    }

    private async Task BeginDoubtAsync(KeepContext db, ClockDoubt found, CancellationToken cancel)
    {
        await using (var change = await leading.BeginAsync(db, cancel))
        {
            await WriteAsync(db, DoubtKey, $"{Text(found.From)} {Text(found.To)}", cancel);
            if (found.Forward)
            {
                foreach (var watch in await db.JobsOnMachines.Where(w => w.ResumeAt == null).ToListAsync(cancel))
                    (watch.ResumeAt, watch.Watermark) = (watch.Watermark, found.To);
                foreach (var watch in await db.TimedMarks.ToListAsync(cancel))
                    watch.Watermark = Instant.Max(watch.Watermark, found.To);
                await db.SaveChangesAsync(cancel);
            }
            else
                await GoBackInAsync(db, found.To, cancel);
            var words = found.Words(charter.Charter.Zone);
            await alerts.RaiseAsync(
                db,
                new Matter(
                    Subject.OfClock(settings.Value.Machine),
                    AlertClass.Clock,
                    found.Forward
                        ? $"{words}; nothing expires, and what became due in between neither runs nor is missed, until this is settled"
                        : $"{words}; nothing expires until this is settled, and jobs run by the new time meanwhile",
                    "Set the clock right. If the new time is right, confirm it with 'ironkeep service confirm-clock' or the button here."
                ),
                cancel
            );
            await change.CommitAsync(cancel);
        }
        doubt = found;
        signal.Wake();
    }

    private async Task EndDoubtAsync(KeepContext db, bool servesGap, CancellationToken cancel)
    {
        var now = clock.Now();
        await using (var change = await db.BeginChangeAsync(cancel))
        {
            foreach (var watch in await db.JobsOnMachines.ToListAsync(cancel))
            {
                if (watch.ResumeAt is { } resume)
                    (watch.Watermark, watch.ResumeAt) = (resume, null);
                else if (servesGap && watch.Watermark > now)
                    watch.Watermark = now;
            }
            foreach (var watch in await db.TimedMarks.Where(w => w.Watermark > now).ToListAsync(cancel))
                watch.Watermark = now;
            await db.KeptValues.Where(n => n.Key == DoubtKey).ExecuteDeleteAsync(cancel);
            await db.SaveChangesAsync(cancel);
            await alerts.CloseAsync(db, Subject.OfClock(settings.Value.Machine), [AlertClass.Clock], cancel);
            await change.CommitAsync(cancel);
        }
        doubt = null;
        signal.Wake();
    }

    private static async Task<string?> ReadAsync(KeepContext db, string key, CancellationToken cancel) =>
        (await db.KeptValues.AsNoTracking().FirstOrDefaultAsync(n => n.Key == key, cancel))?.Value;

    private static async Task WriteAsync(KeepContext db, string key, string value, CancellationToken cancel)
    {
        if (await db.KeptValues.Where(n => n.Key == key).ExecuteUpdateAsync(s => s.SetProperty(n => n.Value, value), cancel) > 0)
            return;
        db.KeptValues.Add(new KeptValue { Key = key, Value = value });
        await db.SaveChangesAsync(cancel);
    }

    private static string Text(Instant at) => at.ToUnixTimeTicks().ToString(CultureInfo.InvariantCulture);

    private static Instant Parse(string text) => Instant.FromUnixTimeTicks(long.Parse(text, CultureInfo.InvariantCulture));
}
