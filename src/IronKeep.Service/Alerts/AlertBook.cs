using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Quantities;
using IronKeep.Core.Watching;
using IronKeep.Service.Basics;
using IronKeep.Service.Charters;
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

    /// <summary>What it becomes when other jobs have the same; null: it stays what it is.</summary>
    public Shared? Shared { get; init; }
}

/// <summary>What is new about an alert.</summary>
public enum AlertNews
{
    Opened,
    Reopened,
    StillOpen,

    /// <summary>The time for which a person had known of it is over, and it is there still.</summary>
    Back,
    Closed,
    Counted,
}

/// <summary>
/// One open alert per subject and class: raising it again counts up, the next good run closes it, and within an hour it reopens
/// rather than starting anew. What is new about one is said as a fact; what nobody has seen for a day is said again. Source:
/// docs/semantics.md, section 6 (Watching).
/// </summary>
public sealed class AlertBook(
    IDbContextFactory<KeepContext> catalogue,
    CharterInForce inForce,
    TimeProvider clock,
    EventHub events,
    FactSignal signal
)
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
        if (matter.Shared is { } shared && await GatherAsync(db, matter, shared, now, cancel))
            return;
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
            Forget(alert);
            (alert.Affected, alert.Escalated) = ("", "");
            alert.ToldAt = now;
        }
        if (!again)
            alert.Count += matter.Times;
        alert.LastAt = now;
        alert.Message = Sentence.Begin(matter.Message);
        alert.Remedy = matter.Remedy;
        alert.RunId = matter.RunId ?? alert.RunId;
        var affected = SharedCauses.JobsOf(alert);
        var more = (matter.Affected?.Split('\n') ?? []).Except(affected);
        alert.Affected = string.Join('\n', affected.Concat(more));
        await WeighAsync(db, alert, cancel);
        await SayAsync(
            db,
            alert,
            !begins ? AlertNews.Counted
                : reopened ? AlertNews.Reopened
                : AlertNews.Opened,
            cancel
        );
        if (begins)
        {
            Note(db, alert, reopened ? AlertDeedKind.Reopened : AlertDeedKind.Opened, words: alert.Message, run: matter.RunId);
            await db.SaveChangesAsync(cancel);
        }
        if (begins && alert.Class == AlertClass.Stale)
            await WeighOthersAsync(db, alert, cancel);
    }

    /// <summary>
    /// Makes one alert of what a job shares with others, or puts the job to the one there is; false when it is alone in it. What was said
    /// of the others alone is closed, and nobody is told of that: it goes on in the one.
    /// </summary>
    private async Task<bool> GatherAsync(KeepContext db, Matter matter, Shared shared, Instant now, CancellationToken cancel)
    {
        var open = await SharedCauses.OpenAsync(db, matter, cancel);
        var others = open is null ? await SharedCauses.OthersAsync(db, matter, now, cancel) : [];
        if (open is null ? others.Count == 0 : !await SharedCauses.IsOfSameAsync(db, open, matter, cancel))
            return false;
        var own = await OpenOf(db, matter.Subject).FirstOrDefaultAsync(a => a.Class == matter.Class, cancel);
        if (own is not null)
            others.Add(own);
        var jobs = (open is null ? [] : SharedCauses.JobsOf(open))
            .Concat(others.Select(o => o.SubjectJob!))
            .Append(matter.Subject.Job!)
            .Distinct()
            .ToList();
        await RaiseAsync(
            db,
            matter with
            {
                Subject = shared.Subject,
                Message = shared.WordsFor(jobs.Count),
                Remedy = shared.Remedy,
                Affected = string.Join('\n', jobs),
                Shared = null,
            },
            cancel
        );
        foreach (var other in others)
        {
            (other.State, other.ClosedAt) = (AlertState.Closed, now);
            other.ClosedReason = $"it goes on as one alert about {shared.Subject.Words}";
            Note(db, other, AlertDeedKind.Closed, words: other.ClosedReason);
        }
        await db.SaveChangesAsync(cancel);
        return true;
    }

    /// <summary>What is at stake by the alert's class, its job's freshness and what its job says of its alerts.</summary>
    private async Task WeighAsync(KeepContext db, Alert alert, CancellationToken cancel)
    {
        var said = alert.SubjectJob is { } job ? inForce.Charter.Placed.Find(job, alert.SubjectMachine)?.Severity : null;
        var stale = Severities.IsOfRuns(alert.Class) && said is null && await IsStaleAsync(db, alert, cancel);
        alert.Severity = Severities.Of(alert.Class, stale, said);
    }

    private static Task<bool> IsStaleAsync(KeepContext db, Alert alert, CancellationToken cancel)
    {
        var jobs = alert.SubjectKind == SubjectKind.Job ? [alert.SubjectJob!] : SharedCauses.JobsOf(alert);
        return db.Alerts.AnyAsync(a => a.State != AlertState.Closed && a.Class == AlertClass.Stale && jobs.Contains(a.SubjectJob!), cancel);
    }

    /// <summary>With the promise of a job, what is open of its runs weighs more, and less again.</summary>
    private async Task WeighOthersAsync(KeepContext db, Alert stale, CancellationToken cancel)
    {
        foreach (var alert in await OpenOf(db, stale.Subject).Where(a => a.Id != stale.Id).ToListAsync(cancel))
            await WeighAsync(db, alert, cancel);
        await db.SaveChangesAsync(cancel);
    }

    /// <summary>Closes the subject's open alerts of the given classes; nothing happens when there are none.</summary>
    public async Task CloseAsync(Subject subject, AlertClass[] kinds, CancellationToken cancel)
    {
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        if (
            !await OpenOf(db, subject).AnyAsync(a => kinds.Contains(a.Class), cancel)
            && (await SharedCauses.WithAsync(db, subject, kinds, cancel)).Count == 0
        )
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
        // A job that is well again leaves what it shared; with the last of them that is over.
        foreach (var alert in await SharedCauses.WithAsync(db, subject, kinds, cancel))
        {
            var left = SharedCauses.JobsOf(alert).Where(j => j != subject.Job).ToList();
            Note(db, alert, AlertDeedKind.Noted, words: $"job {subject.Job} is well again; {left.Count} left");
            if (left.Count > 0)
                alert.Affected = string.Join('\n', left);
            else
                await EndAsync(db, alert, cancel);
        }
        await db.SaveChangesAsync(cancel);
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
            // Whoever closes it has looked.
            if (alert is { Class: AlertClass.Surge, SubjectJob: { } job, SubjectMachine: { } machine })
                await SurgesSeenAsync(db, job, machine, by, cancel);
            await EndAsync(db, alert, cancel);
            await change.CommitAsync(cancel);
        }
        Wake();
        return true;
    }

    /// <summary>Notes that a person has looked at what runs of a job changed, in the caller's change.</summary>
    public static Task SurgesSeenAsync(KeepContext db, string job, string machine, string by, CancellationToken cancel) =>
        db
            .Runs.Where(r => r.Surge != null && r.SurgeSeenBy == null && r.Job == job && r.Machine == machine)
            .ExecuteUpdateAsync(s => s.SetProperty(r => r.SurgeSeenBy, by), cancel);

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

    /// <summary>
    /// Says again what has been open for a day without anybody having seen it, and what is there still after the time for which a person
    /// had known of it.
    /// </summary>
    public async Task RemindAsync(CancellationToken cancel)
    {
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        var now = clock.Now();
        var since = now - RemindsAfter;
        if (
            !await db.Alerts.AnyAsync(
                a => (a.State == AlertState.Open && a.ToldAt < since) || (a.State == AlertState.Known && a.KnownUntil <= now),
                cancel
            )
        )
            return;
        await using (var change = await db.BeginChangeAsync(cancel))
        {
            foreach (var alert in await db.Alerts.Where(a => a.State == AlertState.Known && a.KnownUntil <= now).ToListAsync(cancel))
            {
                Note(db, alert, AlertDeedKind.KnownOver, words: $"known to {alert.KnownBy} until now: {alert.KnownReason}");
                alert.State = AlertState.Open;
                alert.ToldAt = now;
                Forget(alert);
                await SayAsync(db, alert, AlertNews.Back, cancel);
            }
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
        await using var change = await db.BeginChangeAsync(cancel);
        // One that closes at this very moment stays closed.
        var now = clock.Now();
        var seen = await db
            .Alerts.Where(a => a.Id == id && a.State != AlertState.Closed)
            .ExecuteUpdateAsync(
                s =>
                    s.SetProperty(a => a.State, AlertState.Acknowledged)
                        .SetProperty(a => a.AcknowledgedBy, by)
                        .SetProperty(a => a.AcknowledgedAt, now)
                        .SetProperty(a => a.KnownUntil, (Instant?)null)
                        .SetProperty(a => a.KnownBy, (string?)null)
                        .SetProperty(a => a.KnownReason, (string?)null),
                cancel
            );
        if (seen > 0)
        {
            Note(db, id, AlertDeedKind.Acknowledged, by);
            await db.SaveChangesAsync(cancel);
            await change.CommitAsync(cancel);
            events.Publish(Topic.Alert);
        }
        return seen > 0;
    }

    /// <summary>
    /// A person knows of the matter and says until when it needs nobody: it is silent until then, and told again afterwards if it is there
    /// still. False when there is no such open alert.
    /// </summary>
    public async Task<bool> KnowAsync(long id, string by, string reason, Instant until, CancellationToken cancel)
    {
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        await using var change = await db.BeginChangeAsync(cancel);
        if (await db.Alerts.FindAsync([id], cancel) is not { } alert || alert.State == AlertState.Closed)
            return false;
        alert.State = AlertState.Known;
        (alert.KnownUntil, alert.KnownBy, alert.KnownReason) = (until, by, reason);
        Note(db, alert, AlertDeedKind.Known, by, $"until {until.Local(inForce.Charter.Zone)}: {reason}");
        await db.SaveChangesAsync(cancel);
        await change.CommitAsync(cancel);
        events.Publish(Topic.Alert);
        return true;
    }

    /// <summary>Puts a person's words to an alert, open or closed; false when there is no such alert.</summary>
    public async Task<bool> NoteAsync(long id, string by, string words, CancellationToken cancel)
    {
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        if (!await db.Alerts.AnyAsync(a => a.Id == id, cancel))
            return false;
        Note(db, id, AlertDeedKind.Noted, by, words);
        await db.SaveChangesAsync(cancel);
        events.Publish(Topic.Alert);
        return true;
    }

    /// <summary>Writes down what happened to an alert, in the caller's change.</summary>
    public void Note(KeepContext db, long id, AlertDeedKind kind, string? by = null, string? words = null, long? run = null) =>
        db.AlertDeeds.Add(
            new AlertDeed
            {
                AlertId = id,
                At = clock.Now(),
                Kind = kind,
                By = by,
                Words = words,
                RunId = run,
            }
        );

    private void Note(KeepContext db, Alert alert, AlertDeedKind kind, string? by = null, string? words = null, long? run = null) =>
        Note(db, alert.Id, kind, by, words, run);

    private static void Forget(Alert alert) => (alert.KnownUntil, alert.KnownBy, alert.KnownReason) = (null, null, null);

    private static IQueryable<Alert> OpenOf(KeepContext db, Subject subject) =>
        db.Alerts.Where(a => a.State != AlertState.Closed).Where(subject.Has);

    private async Task EndAsync(KeepContext db, Alert alert, CancellationToken cancel)
    {
        alert.State = AlertState.Closed;
        alert.ClosedAt = clock.Now();
        Note(db, alert, AlertDeedKind.Closed, alert.ClosedBy, alert.ClosedReason);
        await SayAsync(db, alert, AlertNews.Closed, cancel);
        if (alert.Class == AlertClass.Stale)
            await WeighOthersAsync(db, alert, cancel);
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
