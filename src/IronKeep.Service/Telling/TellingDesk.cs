using System.Globalization;
using System.Text;
using System.Text.Json;
using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Quantities;
using IronKeep.Core.Telling;
using IronKeep.Core.Watching;
using IronKeep.Service.Alerts;
using IronKeep.Service.Basics;
using IronKeep.Service.Charters;
using IronKeep.Service.Copies;
using IronKeep.Service.Facts;
using IronKeep.Service.Runs;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.Options;
using NodaTime;

namespace IronKeep.Service.Telling;

/// <summary>
/// Writes down what is told to whom; <see cref="Routing"/> says who, and <see cref="Teller"/> carries it. What comes in a flood, lies in a
/// maintenance window or waits for a digest is gathered into one message.
/// </summary>
public sealed class TellingDesk(
    CharterInForce inForce,
    AlertBook book,
    TimeProvider clock,
    IOptions<ServiceSettings> settings,
    TellerSignal signal
) : IFollower
{
    public string Name => "telling";
    public IReadOnlyCollection<FactKind> Follows { get; } = [FactKind.RunEnded, FactKind.AlertChanged];

    public async Task FollowAsync(KeepContext db, IReadOnlyList<Fact> facts, CancellationToken cancel)
    {
        // Other trouble has its alert; that something was skipped has none, and is told to whoever is told of trouble.
        var charter = inForce.Charter;
        var all = charter.Routes.Values.Any(r => r.TellWhen == TellWhen.Always);
        var always = charter.Placed.All.Where(j => j.TellWhen == TellWhen.Always).Select(j => j.Name).Distinct().ToList();
        var runs = await Ended.RunsOfAsync(
            db,
            facts.Where(f => f.Kind == FactKind.RunEnded),
            r => (r.Kind == RunKind.Backup || r.Kind == RunKind.Watched) && (all || r.Outcome == Outcome.Warned || always.Contains(r.Job!)),
            cancel
        );
        foreach (var fact in facts)
        {
            if (fact.Kind == FactKind.RunEnded)
            {
                if (runs.TryGetValue(fact.RunId ?? 0, out var run))
                    await TellAsync(db, run, cancel);
            }
            else if (
                Kebab.Read<AlertNews>(fact.Word!) is { } news and not AlertNews.Counted
                && await db.Alerts.AsNoTracking().FirstOrDefaultAsync(a => a.Id == fact.AlertId, cancel) is { } alert
            )
                await TellAsync(db, alert, news, cancel);
        }
    }

    public async Task TellAsync(KeepContext db, Alert alert, AlertNews news, CancellationToken cancel)
    {
        // Whoever said that it is known until a day wants to hear nothing before it, not even its end.
        if (alert.State == AlertState.Known || (news == AlertNews.Closed && alert.KnownUntil is not null))
            return;
        // It went on in an alert about what it shares before anybody could be told; that one is.
        if (alert is { State: AlertState.Closed, ClosedBy: null, ClosedReason: not null })
            return;
        var now = clock.Now();
        var who = Routing.Of(inForce.Charter, MatterOf(alert), now).ToList();
        if (news == AlertNews.Closed)
        {
            // Who was told that it began is told that it is over, also when it is another's turn by now.
            var known = who.Select(t => t.To.Place).ToHashSet();
            var before = await db
                .Messages.Where(m => m.AlertId == alert.Id && m.MadeAt >= alert.OpenedAt)
                .Select(m => new { m.Channel, m.Mail })
                .Distinct()
                .ToListAsync(cancel);
            var why = "it was told that this began";
            if (Routing.Maintenance(inForce.Charter, MatterOf(alert), now) is null)
                who.AddRange(
                    before
                        .Where(b => !known.Contains((b.Channel, b.Mail)))
                        .Select(b => new Recipient(new Addressee(b.Channel, b.Mail, PersonAt(b.Mail), null, why), null, why))
                );
        }
        var atOnce = who.Where(t => t.Gathered is null).Select(t => t.To).ToList();
        await WriteAsync(db, atOnce, WordsOf(alert, news), cancel);
        foreach (var group in who.Where(t => t.Gathered is not null).GroupBy(t => t.Gathered!))
        {
            foreach (var one in group)
                await GatherAsync(db, one.To, group.Key, $"alert {alert.Id}", cancel);
            book.Note(
                db,
                alert.Id,
                AlertDeedKind.Gathered,
                words: $"{Kebab.Of(news)}, told {group.Key.At.Local(inForce.Charter.Zone)} with {group.Key.Name}, to "
                    + Named(group.Select(t => t.To))
            );
        }
        if (atOnce.Count > 0)
            book.Note(db, alert.Id, AlertDeedKind.Told, words: $"{Kebab.Of(news)}, to {Named(atOnce)}");
        await db.SaveChangesAsync(cancel);
    }

    private string? PersonAt(string? mail) => mail is null ? null : inForce.Charter.People.Values.FirstOrDefault(p => p.Mail == mail)?.Name;

    /// <summary>People by their names, channels where nobody stands behind them.</summary>
    private static string Named(IEnumerable<Addressee> to) =>
        Counted.Named([.. to.Select(a => a.Person is { } person ? $"{person} ({a.Channel})" : $"channel {a.Channel}").Distinct()]);

    /// <summary>So many jobs are named in a message; its page has them all.</summary>
    private const int MostJobs = 20;

    private static string Jobs(string[] jobs) =>
        string.Join(", ", jobs.Take(MostJobs)) + (jobs.Length > MostJobs ? $" and {jobs.Length - MostJobs} more" : "");

    private Words WordsOf(Alert alert, AlertNews news)
    {
        var zone = inForce.Charter.Zone;
        var word = Kebab.Of(alert.Class);
        var body = new StringBuilder();
        body.Append(CultureInfo.InvariantCulture, $"{alert.Message}\n\n");
        if (news == AlertNews.Closed && alert is { ClosedBy: { } by, ClosedReason: { } reason })
            body.Append(CultureInfo.InvariantCulture, $"Closed by {by}: {reason}\n\n");
        if (news != AlertNews.Closed)
            body.Append(CultureInfo.InvariantCulture, $"What to do: {alert.Remedy}\n\n");
        body.Append(
            CultureInfo.InvariantCulture,
            $"Alert {alert.Id}, {word} ({Severities.Words(alert.Severity)}), {Counted.Of(alert.Count, "time")}, "
                + $"open since {alert.OpenedAt.Local(zone)} ({zone.Id})"
        );
        if (news == AlertNews.Closed && alert.ClosedAt is { } closed)
            body.Append(CultureInfo.InvariantCulture, $", closed {closed.Local(zone)} after {Length(closed - alert.OpenedAt)}");
        body.Append('\n');
        if (alert.Affected.Length > 0)
            body.Append(CultureInfo.InvariantCulture, $"Affected jobs: {Jobs(alert.Affected.Split('\n'))}\n");
        if (alert.RunId is { } run)
            body.Append(CultureInfo.InvariantCulture, $"The run: ironkeep run show {run}\n");
        var title = news switch
        {
            AlertNews.Closed => $"closed: {alert.Subject.Words} ({word})",
            AlertNews.StillOpen => $"still open: {word.ToUpperInvariant()} {alert.Subject.Words}",
            AlertNews.Back => $"known no longer: {word.ToUpperInvariant()} {alert.Subject.Words}",
            AlertNews.Reopened => $"again: {word.ToUpperInvariant()} {alert.Subject.Words}",
            _ => $"{word.ToUpperInvariant()} {alert.Subject.Words}",
        };
        return new Words(title, body.ToString(), $"alert-{Kebab.Of(news)}", alert.ToAnswer(), alert.Id);
    }

    /// <summary>What of an alert the routes look at.</summary>
    public static Told MatterOf(Alert alert) =>
        new(alert.Class, alert.Severity, alert.SubjectJob, alert.SubjectMachine, alert.SubjectStore)
        {
            Channel = alert.Subject is { Kind: SubjectKind.Channel, Name: { } channel } ? channel : null,
        };

    /// <summary>Tells others of an alert that nobody has seen in time.</summary>
    public async Task EscalateAsync(KeepContext db, Alert alert, Escalation to, CancellationToken cancel)
    {
        var words = WordsOf(alert, AlertNews.StillOpen);
        var title = $"nobody has seen it: {Kebab.Of(alert.Class).ToUpperInvariant()} {alert.Subject.Words}";
        await WriteAsync(db, to.To, words with { Title = title }, cancel);
        book.Note(
            db,
            alert.Id,
            AlertDeedKind.Escalated,
            words: $"nobody had seen it, so route {to.Route} told {Named(to.To)}: "
                + to.To.Select(t => t.Why).FirstOrDefault("there is nobody")
        );
    }

    /// <summary>Tells of the end of a run of a job that wants to be told always, or that skipped something.</summary>
    public async Task TellAsync(KeepContext db, Run run, CancellationToken cancel)
    {
        if (run.Job is null || inForce.Charter.Placed.Find(run.Job, run.Machine) is not { } job)
            return;
        var answer = run.ToAnswer(charter: inForce.Charter);
        var f = answer.Figures;
        var body =
            $"{run.Sentence}\n\nRun {run.Id} of {run.Job} on {run.Machine}: {f.Items} items, {new ByteSize(f.SelectedBytes)} taken, "
            + $"{new ByteSize(f.ReadBytes)} read, {new ByteSize(f.NewBytes)} new, {new ByteSize(f.StoredBytes)} stored.\nThe log: "
            + $"ironkeep run log {run.Id}\n";
        var trouble = run.Outcome is Outcome.Warned;
        var words = new Words($"{Kebab.Of(run.Outcome!.Value)} job {run.Job} on {run.Machine}", body, "run-ended", answer);
        foreach (var one in Routing.OfRunEnd(inForce.Charter, job, run.Machine, trouble, clock.Now()))
        {
            if (IsDesk(one.To))
                continue;
            if (one.Gathered is { } gathering)
                await GatherAsync(db, one.To, gathering, $"run {run.Id}", cancel);
            else
                await WriteAsync(db, [one.To], words, cancel);
        }
    }

    /// <summary>Writes down one message for each place; those of a flood of alerts are gathered instead.</summary>
    public async Task WriteAsync(KeepContext db, IEnumerable<Addressee> to, Words words, CancellationToken cancel)
    {
        var now = clock.Now();
        foreach (var place in to.Where(p => inForce.Charter.Channels.ContainsKey(p.Channel)))
        {
            var desk = IsDesk(place);
            // A desk takes alerts, and each by itself.
            if (desk && words is { AlertId: null, Type: not "channel-test" })
                continue;
            if (!desk && words.AlertId is { } alert && await IsFloodedAsync(db, place, now, cancel))
            {
                await GatherAsync(db, place, new Gathering(Flood, now + FloodWaits), $"alert {alert}", cancel);
                continue;
            }
            db.Messages.Add(MessageOf(place, words, now));
            // The next of a flood is counted with this one.
            await db.SaveChangesAsync(cancel);
        }
        await db.SaveChangesAsync(cancel);
        signal.Wake();
    }

    private bool IsDesk(Addressee to) => inForce.Charter.Channels.GetValueOrDefault(to.Channel) is { Kind: ChannelKind.Desk };

    /// <summary>In place of what was gathered for a desk: a message for each alert, as it stands now.</summary>
    public async Task SplitAsync(KeepContext db, Message gathered, Instant now, CancellationToken cancel)
    {
        foreach (var id in Gathered.Ids(gathered.Entries.Split('\n', StringSplitOptions.RemoveEmptyEntries), "alert "))
            // Who says that it is known until a day wants no ticket before.
            if (await db.Alerts.AsNoTracking().FirstOrDefaultAsync(a => a.Id == id && a.State != AlertState.Known, cancel) is { } alert)
                db.Messages.Add(
                    MessageOf(
                        new Addressee(gathered.Channel, gathered.Mail, null, null, ""),
                        WordsOf(alert, alert.State == AlertState.Closed ? AlertNews.Closed : AlertNews.Opened),
                        now
                    )
                );
        (gathered.EndedAt, gathered.Sent) = (now, true);
        await db.SaveChangesAsync(cancel);
    }

    private Message MessageOf(Addressee to, Words words, Instant now) =>
        new()
        {
            Channel = to.Channel,
            Mail = to.Mail,
            AlertId = words.AlertId,
            Subject = $"Iron Keep {settings.Value.Machine}: {words.Title}",
            Body = words.Body,
            Html = words.Html,
            Type = words.Type,
            Data = JsonSerializer.Serialize(words.Data, words.Data.GetType(), ContractJson.Options),
            MadeAt = now,
            NextAt = now,
        };

    /// <summary>Whether so many alerts were told there of late that the next ones are told together.</summary>
    private static async Task<bool> IsFloodedAsync(KeepContext db, Addressee to, Instant now, CancellationToken cancel)
    {
        var since = now - FloodWithin;
        return await db
                .Messages.Where(m => m.Channel == to.Channel && m.Mail == to.Mail && m.MadeAt > since && m.MadeAt <= now)
                .CountAsync(m => m.AlertId != null || m.Gathers == Flood, cancel) >= FloodFrom;
    }

    /// <summary>Puts an entry to what is gathered under a name for a place, or begins to gather.</summary>
    private async Task GatherAsync(KeepContext db, Addressee to, Gathering gathering, string entry, CancellationToken cancel)
    {
        var waiting = await db
            .Messages.AsNoTracking()
            .Where(m => m.EndedAt == null && m.Attempts == 0 && m.Gathers == gathering.Name)
            .FirstOrDefaultAsync(m => m.Channel == to.Channel && m.Mail == to.Mail, cancel);
        if (waiting is not null)
        {
            if (waiting.Entries.Split('\n').Contains(entry))
                return;
            // It may be on its way at this very moment; then another begins.
            var joined = await db
                .Messages.Where(m => m.Id == waiting.Id && m.Attempts == 0)
                .ExecuteUpdateAsync(s => s.SetProperty(m => m.Entries, m => m.Entries + "\n" + entry), cancel);
            if (joined > 0)
                return;
        }
        db.Messages.Add(
            new Message
            {
                Channel = to.Channel,
                Mail = to.Mail,
                Gathers = gathering.Name,
                Entries = entry,
                Subject = "",
                Body = "",
                Type = "gathered",
                Data = "{}",
                MadeAt = clock.Now(),
                NextAt = gathering.At,
            }
        );
        await db.SaveChangesAsync(cancel);
    }

    /// <summary>
    /// Tells whoever is told of everything, or through every other channel where nobody else is, what a channel that is gone or refused it
    /// should have told.
    /// </summary>
    public void PassOn(KeepContext db, Message lost, Instant now, string why)
    {
        var charter = inForce.Charter;
        var others = Addressees.Of(charter, charter.Tells, now).RemoveAll(a => a.Place == (lost.Channel, lost.Mail));
        if (others.IsEmpty)
            others = Addressees.Of(charter, charter.Channels.Keys.Where(c => c != lost.Channel), now);
        foreach (var to in others.Where(o => lost.AlertId is not null || !IsDesk(o)))
            db.Messages.Add(
                new Message
                {
                    Channel = to.Channel,
                    Mail = to.Mail,
                    AlertId = lost.AlertId,
                    Subject = lost.Subject,
                    Body = $"{lost.Body}\nThis was for {(lost.Mail is { } mail ? mail + " through " : "")}channel {lost.Channel}, {why}.\n",
                    PassedOn = true,
                    Type = lost.Type,
                    Data = lost.Data,
                    MadeAt = now,
                    NextAt = now,
                }
            );
    }

    private const string Flood = "a flood of alerts";

    /// <summary>From how many alerts within how long on the next ones are told together, and how long those wait for more.</summary>
    private const int FloodFrom = 5;
    private static readonly Duration FloodWithin = Duration.FromMinutes(5);
    private static readonly Duration FloodWaits = Duration.FromMinutes(1);

    private static string Length(Duration d) =>
        d.TotalHours < 1 ? $"{(int)d.TotalMinutes} min"
        : d.TotalDays < 2 ? $"{(int)d.TotalHours} h"
        : $"{(int)d.TotalDays} days";
}

/// <summary>What a message says: its title, its text, its type and the event's data, and the alert that it tells of.</summary>
public sealed record Words(string Title, string Body, string Type, object Data, long? AlertId = null)
{
    /// <summary>The same as HTML, where it has a layout of its own.</summary>
    public string? Html { get; init; }
}

/// <summary>Wakes the teller when there is something new to carry.</summary>
public sealed class TellerSignal : WakeSignal;
