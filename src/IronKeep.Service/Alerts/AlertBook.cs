using System.Collections.Concurrent;
using IronKeep.Service.Catalogue;
using IronKeep.Service.Events;
using IronKeep.Service.Hosting;
using IronKeep.Service.Telling;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace IronKeep.Service.Alerts;

/// <summary>Something that a person has to know: about what, of which class, why, and what to do.</summary>
public sealed record Matter(string Subject, AlertClass Class, string Message, string Remedy)
{
    public long? RunId { get; init; }

    /// <summary>Whether it is said only where it is not open already: for who looks again and again at the same.</summary>
    public bool Once { get; init; }

    /// <summary>By how much the count goes up.</summary>
    public int Times { get; init; } = 1;

    /// <summary>The job that is affected, where the subject is a cause that many share.</summary>
    public string? Affected { get; init; }
}

/// <summary>
/// One open alert per subject and class: raising it again counts up, the next good run closes it, and within an hour it reopens
/// rather than starting anew. Opening, reopening and closing are told; what nobody has seen for a day is told again. Source:
/// docs/semantics.md, section 6.
/// </summary>
public sealed class AlertBook(IDbContextFactory<KeepContext> catalogue, TimeProvider clock, EventHub events, TellingDesk telling) : IDisposable
{
    public const string MissedRemedy = "Keep the service running at the job's times, or choose times at which it runs; run the job now to have a fresh copy.";
    private static readonly Duration ReopensWithin = Duration.FromHours(1);
    private static readonly Duration RemindsAfter = Duration.FromDays(1);
    private readonly SemaphoreSlim gate = new(1);
    private readonly ConcurrentDictionary<(string, AlertClass), byte> open = new();

    public static string JobSubject(string job, string machine) => $"job {job} on {machine}";
    public static string StoreSubject(string store) => $"store {store}";
    public static string ChannelSubject(string channel) => $"channel {channel}";

    /// <summary>Reads which alerts are open; done once, before anything is raised.</summary>
    public async Task LoadAsync(CancellationToken cancel)
    {
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        foreach (var alert in await db.Alerts.Where(a => a.State != AlertState.Closed).Select(a => new { a.Subject, a.Class }).ToListAsync(cancel)) open[(alert.Subject, alert.Class)] = 0;
    }

    public bool IsOpen(string subject, AlertClass kind) => open.ContainsKey((subject, kind));

    public async Task RaiseAsync(Matter matter, CancellationToken cancel)
    {
        await gate.WaitAsync(cancel);
        try
        {
            await using var db = await catalogue.CreateDbContextAsync(cancel);
            var now = clock.Now();
            var alert = await db.Alerts.Where(a => a.Subject == matter.Subject && a.Class == matter.Class).OrderByDescending(a => a.Id).FirstOrDefaultAsync(cancel);
            var begins = alert is null || alert.State == AlertState.Closed;
            if (matter.Once && !begins) return;
            if (alert is null || (alert.ClosedAt is { } closed && now - closed > ReopensWithin))
            {
                alert = new Alert { Subject = matter.Subject, Class = matter.Class, Message = "", Remedy = "", OpenedAt = now };
                db.Alerts.Add(alert);
            }
            var reopened = begins && alert.Count > 0;
            // Said once of one run, also when a crash lets it be said again.
            var again = !begins && matter.RunId is not null && alert.RunId == matter.RunId;
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
            if (!again) alert.Count += matter.Times;
            alert.LastAt = now;
            alert.Message = matter.Message;
            alert.Remedy = matter.Remedy;
            alert.RunId = matter.RunId ?? alert.RunId;
            var affected = alert.Affected.Split('\n', StringSplitOptions.RemoveEmptyEntries);
            if (matter.Affected is { } job && !affected.Contains(job)) alert.Affected = string.Join('\n', affected.Append(job));
            // The alert and what is told of it, or neither.
            await using (var together = await db.Database.BeginTransactionAsync(cancel))
            {
                await db.SaveChangesAsync(cancel);
                if (begins) await telling.TellAsync(db, alert, reopened ? AlertNews.Reopened : AlertNews.Opened, cancel);
                await together.CommitAsync(cancel);
            }
            open[(alert.Subject, alert.Class)] = 0;
        }
        finally
        {
            gate.Release();
        }
        events.Publish("alert");
    }

    /// <summary>Closes the subject's open alerts of the given classes; nothing happens when there are none.</summary>
    public async Task CloseAsync(string subject, AlertClass[] kinds, CancellationToken cancel)
    {
        if (!kinds.Any(k => IsOpen(subject, k))) return;
        await gate.WaitAsync(cancel);
        try
        {
            await using var db = await catalogue.CreateDbContextAsync(cancel);
            foreach (var alert in await db.Alerts.Where(a => a.Subject == subject && a.State != AlertState.Closed).ToListAsync(cancel))
            {
                if (!kinds.Contains(alert.Class)) continue;
                await EndAsync(db, alert, cancel);
            }
        }
        finally
        {
            gate.Release();
        }
        events.Publish("alert");
    }

    private async Task EndAsync(KeepContext db, Alert alert, CancellationToken cancel)
    {
        await using var together = await db.Database.BeginTransactionAsync(cancel);
        alert.State = AlertState.Closed;
        alert.ClosedAt = clock.Now();
        await db.SaveChangesAsync(cancel);
        await telling.TellAsync(db, alert, AlertNews.Closed, cancel);
        await together.CommitAsync(cancel);
        open.TryRemove((alert.Subject, alert.Class), out _);
    }

    /// <summary>A person closes an alert whose cause nothing will ever end, and says why; false when there is no such open alert.</summary>
    public async Task<bool> CloseByAsync(long id, string by, string reason, CancellationToken cancel)
    {
        await gate.WaitAsync(cancel);
        try
        {
            await using var db = await catalogue.CreateDbContextAsync(cancel);
            if (await db.Alerts.FindAsync([id], cancel) is not { } alert || alert.State == AlertState.Closed) return false;
            (alert.ClosedBy, alert.ClosedReason) = (by, reason);
            await EndAsync(db, alert, cancel);
        }
        finally
        {
            gate.Release();
        }
        events.Publish("alert");
        return true;
    }

    /// <summary>Says anew what an open alert says, without counting it up.</summary>
    public async Task UpdateAsync(Matter matter, CancellationToken cancel)
    {
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        var changed = await db.Alerts.Where(a => a.Subject == matter.Subject && a.Class == matter.Class && a.State != AlertState.Closed && a.Message != matter.Message)
            .ExecuteUpdateAsync(s => s.SetProperty(a => a.Message, matter.Message), cancel);
        if (changed > 0) events.Publish("alert");
    }

    /// <summary>Tells again of what has been open for a day without anybody having seen it.</summary>
    public async Task RemindAsync(CancellationToken cancel)
    {
        if (open.IsEmpty) return;
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        var since = clock.Now() - RemindsAfter;
        foreach (var alert in await db.Alerts.Where(a => a.State == AlertState.Open && a.ToldAt < since).ToListAsync(cancel))
        {
            await using var together = await db.Database.BeginTransactionAsync(cancel);
            alert.ToldAt = clock.Now();
            await db.SaveChangesAsync(cancel);
            await telling.TellAsync(db, alert, AlertNews.StillOpen, cancel);
            await together.CommitAsync(cancel);
        }
    }

    /// <summary>Notes that a person has seen the alert; false when there is no such open alert.</summary>
    public async Task<bool> AcknowledgeAsync(long id, string by, CancellationToken cancel)
    {
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        // One that closes at this very moment stays closed.
        var now = clock.Now();
        var seen = await db.Alerts.Where(a => a.Id == id && a.State != AlertState.Closed)
            .ExecuteUpdateAsync(s => s.SetProperty(a => a.State, AlertState.Acknowledged).SetProperty(a => a.AcknowledgedBy, by).SetProperty(a => a.AcknowledgedAt, now), cancel);
        if (seen > 0) events.Publish("alert");
        return seen > 0;
    }

    public void Dispose() => gate.Dispose();
}
