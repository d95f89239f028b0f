using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Quantities;
using IronKeep.Core.Watching;
using IronKeep.Service.Basics;
using IronKeep.Service.Events;
using IronKeep.Service.Facts;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace IronKeep.Service.Alerts;

/// <summary>Something that a person has to know: about what, of which class, why, and what to do.</summary>
public sealed record Matter(Subject Subject, AlertClass Class, string Message, string Remedy)
{
    public long? RunId { get; init; }

    /// <summary>Whether it is said only where it is not open already: for who looks again and again at the same.</summary>
    public bool Once { get; init; }

    /// <summary>By how much the count goes up.</summary>
    public int Times { get; init; } = 1;

    /// <summary>Whether saying it once more, while it is open, leaves the count as it is.</summary>
    public bool CountsOnce { get; init; }

    /// <summary>The job that is affected, where the subject is a cause that many share.</summary>
    public string? Affected { get; init; }
}

/// <summary>What is new about an alert.</summary>
public enum AlertNews
{
    Opened,
    Reopened,
    StillOpen,
    Closed,
    Counted,
}

/// <summary>
/// One open alert per subject and class: raising it again counts up, the next good run closes it, and within an hour it reopens
/// rather than starting anew. What is new about one is said as a fact; what nobody has seen for a day is said again. Source:
/// docs/semantics.md, section 6 (Watching).
/// </summary>
public sealed class AlertBook(IDbContextFactory<KeepContext> catalogue, TimeProvider clock, EventHub events, FactSignal signal)
{
    public const string MissedRemedy =
        "Keep the service running at the job's times, or choose times at which it runs; run the job now to have a fresh copy.";
    private static readonly Duration ReopensWithin = Duration.FromHours(1);
    private static readonly Duration RemindsAfter = Duration.FromDays(1);

    public async Task<bool> IsOpenAsync(Subject subject, AlertClass kind, CancellationToken cancel)
    {
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        return await OpenOf(db, subject).AnyAsync(a => a.Class == kind, cancel);
    }

    /// <summary>What is open of a class, by subject: for who looks at many at once.</summary>
    public static async Task<HashSet<Subject>> OpenAsync(KeepContext db, AlertClass kind, CancellationToken cancel) =>
        [
            .. (await db.Alerts.AsNoTracking().Where(a => a.State != AlertState.Closed && a.Class == kind).ToListAsync(cancel)).Select(a =>
                a.Subject
            ),
        ];

    /// <summary>Raises a matter in a change of its own.</summary>
    public async Task RaiseAsync(Matter matter, CancellationToken cancel)
    {
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        if (matter.Once && await OpenOf(db, matter.Subject).AnyAsync(a => a.Class == matter.Class, cancel))
            return;
        await using (var change = await db.BeginChangeAsync(cancel))
        {
            await RaiseAsync(db, matter, cancel);
            await change.CommitAsync(cancel);
        }
        Wake();
    }

    /// <summary>Raises a matter in the caller's change.</summary>
    public async Task RaiseAsync(KeepContext db, Matter matter, CancellationToken cancel)
    {
        var now = clock.Now();
        var alert = await db
            .Alerts.Where(matter.Subject.Has)
            .Where(a => a.Class == matter.Class)
            .OrderByDescending(a => a.Id)
            .FirstOrDefaultAsync(cancel);
        var begins = alert is null || alert.State == AlertState.Closed;
        if (matter.Once && !begins)
            return;
        if (alert is null || (alert.ClosedAt is { } closed && now - closed > ReopensWithin))
        {
            alert = new Alert
            {
                Subject = matter.Subject,
                Class = matter.Class,
                Message = "",
                Remedy = "",
                OpenedAt = now,
            };
            db.Alerts.Add(alert);
        }
        var reopened = begins && alert.Count > 0;
        // Said once of one run, also when a crash lets it be said again.
        var again = !begins && (matter.CountsOnce || (matter.RunId is not null && alert.RunId == matter.RunId));
        if (begins)
        {
            alert.State = AlertState.Open;
            (alert.ClosedBy, alert.ClosedReason) = (null, null);
            alert.ClosedAt = null;
            alert.AcknowledgedAt = null;
            alert.AcknowledgedBy = null;
            alert.Affected = "";
            alert.ToldAt = now;
        }
        if (!again)
            alert.Count += matter.Times;
        alert.LastAt = now;
        alert.Message = Sentence.Begin(matter.Message);
        alert.Remedy = matter.Remedy;
        alert.RunId = matter.RunId ?? alert.RunId;
        var affected = alert.Affected.Split('\n', StringSplitOptions.RemoveEmptyEntries);
        if (matter.Affected is { } job && !affected.Contains(job))
            alert.Affected = string.Join('\n', affected.Append(job));
        await SayAsync(
            db,
            alert,
            !begins ? AlertNews.Counted
                : reopened ? AlertNews.Reopened
                : AlertNews.Opened,
            cancel
        );
    }

    /// <summary>Closes the subject's open alerts of the given classes; nothing happens when there are none.</summary>
    public async Task CloseAsync(Subject subject, AlertClass[] kinds, CancellationToken cancel)
    {
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        if (!await OpenOf(db, subject).AnyAsync(a => kinds.Contains(a.Class), cancel))
            return;
        await using (var change = await db.BeginChangeAsync(cancel))
        {
            await CloseAsync(db, subject, kinds, cancel);
            await change.CommitAsync(cancel);
        }
        Wake();
    }

    /// <summary>The same in the caller's change.</summary>
    public async Task CloseAsync(KeepContext db, Subject subject, AlertClass[] kinds, CancellationToken cancel)
    {
        foreach (var alert in await OpenOf(db, subject).Where(a => kinds.Contains(a.Class)).ToListAsync(cancel))
            await EndAsync(db, alert, cancel);
    }

    /// <summary>A person closes an alert whose cause nothing will ever end, and says why; false when there is no such open alert.</summary>
    public async Task<bool> CloseByAsync(long id, string by, string reason, CancellationToken cancel)
    {
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        await using (var change = await db.BeginChangeAsync(cancel))
        {
            if (await db.Alerts.FindAsync([id], cancel) is not { } alert || alert.State == AlertState.Closed)
                return false;
            (alert.ClosedBy, alert.ClosedReason) = (by, reason);
            await EndAsync(db, alert, cancel);
            await change.CommitAsync(cancel);
        }
        Wake();
        return true;
    }

    /// <summary>Says anew what an open alert says, without counting it up.</summary>
    public async Task UpdateAsync(Matter matter, CancellationToken cancel)
    {
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        var changed = await OpenOf(db, matter.Subject)
            .Where(a => a.Class == matter.Class && a.Message != matter.Message)
            .ExecuteUpdateAsync(s => s.SetProperty(a => a.Message, matter.Message), cancel);
        if (changed > 0)
            events.Publish(Topic.Alert);
    }

    /// <summary>Says again what has been open for a day without anybody having seen it.</summary>
    public async Task RemindAsync(CancellationToken cancel)
    {
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        var since = clock.Now() - RemindsAfter;
        if (!await db.Alerts.AnyAsync(a => a.State == AlertState.Open && a.ToldAt < since, cancel))
            return;
        await using (var change = await db.BeginChangeAsync(cancel))
        {
            foreach (var alert in await db.Alerts.Where(a => a.State == AlertState.Open && a.ToldAt < since).ToListAsync(cancel))
            {
                alert.ToldAt = clock.Now();
                await SayAsync(db, alert, AlertNews.StillOpen, cancel);
            }
            await change.CommitAsync(cancel);
        }
        Wake();
    }

    /// <summary>Notes that a person has seen the alert; false when there is no such open alert.</summary>
    public async Task<bool> AcknowledgeAsync(long id, string by, CancellationToken cancel)
    {
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        // One that closes at this very moment stays closed.
        var now = clock.Now();
        var seen = await db
            .Alerts.Where(a => a.Id == id && a.State != AlertState.Closed)
            .ExecuteUpdateAsync(
                s =>
                    s.SetProperty(a => a.State, AlertState.Acknowledged)
                        .SetProperty(a => a.AcknowledgedBy, by)
                        .SetProperty(a => a.AcknowledgedAt, now),
                cancel
            );
        if (seen > 0)
            events.Publish(Topic.Alert);
        return seen > 0;
    }

    private static IQueryable<Alert> OpenOf(KeepContext db, Subject subject) =>
        db.Alerts.Where(a => a.State != AlertState.Closed).Where(subject.Has);

    private Task EndAsync(KeepContext db, Alert alert, CancellationToken cancel)
    {
        alert.State = AlertState.Closed;
        alert.ClosedAt = clock.Now();
        return SayAsync(db, alert, AlertNews.Closed, cancel);
    }

    private async Task SayAsync(KeepContext db, Alert alert, AlertNews news, CancellationToken cancel)
    {
        await db.SaveChangesAsync(cancel);
        db.Say(
            new Fact
            {
                At = clock.Now(),
                Kind = FactKind.AlertChanged,
                AlertId = alert.Id,
                Word = Kebab.Of(news),
            }
        );
        await db.SaveChangesAsync(cancel);
    }

    private void Wake()
    {
        events.Publish(Topic.Alert);
        signal.Wake();
    }
}
