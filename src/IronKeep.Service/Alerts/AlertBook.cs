using IronKeep.Service.Catalogue;
using IronKeep.Service.Events;
using IronKeep.Service.Hosting;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace IronKeep.Service.Alerts;

/// <summary>
/// One open alert per subject and class: raising it again counts up, the next good run closes it, and within an hour it reopens
/// rather than starting anew. Source: docs/semantics.md, section 6.
/// </summary>
public sealed class AlertBook(IDbContextFactory<KeepContext> catalogue, TimeProvider clock, EventHub events) : IDisposable
{
    public const string MissedRemedy = "Keep the service running at the job's times, or choose times at which it runs; run the job now to have a fresh copy.";
    private static readonly Duration ReopensWithin = Duration.FromHours(1);
    private readonly SemaphoreSlim gate = new(1);

    public static string JobSubject(string job, string machine) => $"job {job} on {machine}";
    public static string StoreSubject(string store) => $"store {store}";

    public async Task RaiseAsync(string subject, AlertClass kind, string message, string remedy, long? runId, CancellationToken cancel, int times = 1)
    {
        await gate.WaitAsync(cancel);
        try
        {
            await using var db = await catalogue.CreateDbContextAsync(cancel);
            var now = clock.Now();
            var alert = await db.Alerts.Where(a => a.Subject == subject && a.Class == kind).OrderByDescending(a => a.Id).FirstOrDefaultAsync(cancel);
            if (alert is null || (alert.ClosedAt is { } closed && now - closed > ReopensWithin))
            {
                alert = new Alert { Subject = subject, Class = kind, Message = message, Remedy = remedy, OpenedAt = now };
                db.Alerts.Add(alert);
            }
            if (alert.State == AlertState.Closed)
            {
                alert.State = AlertState.Open;
                alert.ClosedAt = null;
                alert.AcknowledgedAt = null;
                alert.AcknowledgedBy = null;
            }
            alert.Count += times;
            alert.LastAt = now;
            alert.Message = message;
            alert.Remedy = remedy;
            alert.RunId = runId ?? alert.RunId;
            await db.SaveChangesAsync(cancel);
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
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        var open = await db.Alerts.Where(a => a.Subject == subject && a.State != AlertState.Closed).ToListAsync(cancel);
        var closing = open.Where(a => kinds.Contains(a.Class)).ToList();
        if (closing.Count == 0) return;
        foreach (var alert in closing)
        {
            alert.State = AlertState.Closed;
            alert.ClosedAt = clock.Now();
        }
        await db.SaveChangesAsync(cancel);
        events.Publish("alert");
    }

    public void Dispose() => gate.Dispose();

    /// <summary>Notes that a person has seen the alert; false when there is no such open alert.</summary>
    public async Task<bool> AcknowledgeAsync(long id, string by, CancellationToken cancel)
    {
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        var alert = await db.Alerts.FindAsync([id], cancel);
        if (alert is null || alert.State == AlertState.Closed) return false;
        alert.State = AlertState.Acknowledged;
        alert.AcknowledgedBy = by;
        alert.AcknowledgedAt = clock.Now();
        await db.SaveChangesAsync(cancel);
        events.Publish("alert");
        return true;
    }
}
