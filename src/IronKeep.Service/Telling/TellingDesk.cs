using System.Globalization;
using System.Text;
using System.Text.Json;
using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Quantities;
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
/// Decides who is told what and writes it down; <see cref="Teller"/> carries it. A job's alerts go to the channels that the job
/// names, everything else to the charter's; what cannot be told through a channel is told through the others.
/// </summary>
public sealed class TellingDesk(CharterInForce inForce, TimeProvider clock, IOptions<ServiceSettings> settings, TellerSignal signal)
    : IFollower
{
    public string Name => "telling";
    public IReadOnlyCollection<FactKind> Follows { get; } = [FactKind.RunEnded, FactKind.AlertChanged];

    public async Task FollowAsync(KeepContext db, IReadOnlyList<Fact> facts, CancellationToken cancel)
    {
        // Other trouble has its alert; that something was skipped has none, and is told to whoever is told of trouble.
        var always = inForce.Charter.Jobs.Values.Where(j => j.TellWhen == TellWhen.Always).Select(j => j.Name).ToList();
        var runs = await Ended.RunsOfAsync(
            db,
            facts.Where(f => f.Kind == FactKind.RunEnded),
            r =>
                (r.Kind == RunKind.Backup || r.Kind == RunKind.Watched)
                && (r.Outcome == Core.Watching.Outcome.Warned || always.Contains(r.Job!)),
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
            $"Alert {alert.Id}, {word}, {Counted.Of(alert.Count, "time")}, open since {alert.OpenedAt.Local(zone)} ({zone.Id})"
        );
        if (news == AlertNews.Closed && alert.ClosedAt is { } closed)
            body.Append(CultureInfo.InvariantCulture, $", closed {closed.Local(zone)} after {Length(closed - alert.OpenedAt)}");
        body.Append('\n');
        if (alert.Affected.Length > 0)
            body.Append(CultureInfo.InvariantCulture, $"Affected jobs: {alert.Affected.Replace("\n", ", ", StringComparison.Ordinal)}\n");
        if (alert.RunId is { } run)
            body.Append(CultureInfo.InvariantCulture, $"The run: ironkeep run show {run}\n");
        var title = news switch
        {
            AlertNews.Closed => $"closed: {alert.Subject.Words} ({word})",
            AlertNews.StillOpen => $"still open: {word.ToUpperInvariant()} {alert.Subject.Words}",
            AlertNews.Reopened => $"again: {word.ToUpperInvariant()} {alert.Subject.Words}",
            _ => $"{word.ToUpperInvariant()} {alert.Subject.Words}",
        };
        await WriteAsync(db, ChannelsOf(alert.Subject), title, body.ToString(), $"alert-{Kebab.Of(news)}", alert.ToAnswer(), cancel);
    }

    /// <summary>Tells of the end of a run of a job that wants to be told always, or that skipped something.</summary>
    public Task TellAsync(KeepContext db, Run run, CancellationToken cancel)
    {
        if (run.Job is null || !inForce.Charter.Jobs.TryGetValue(run.Job, out var job))
            return Task.CompletedTask;
        var answer = run.ToAnswer();
        var f = answer.Figures;
        var body =
            $"{run.Sentence}\n\nRun {run.Id} of {run.Job} on {run.Machine}: {f.Items} items, {new ByteSize(f.SelectedBytes)} taken, "
            + $"{new ByteSize(f.ReadBytes)} read, {new ByteSize(f.NewBytes)} new, {new ByteSize(f.StoredBytes)} stored.\nThe log: "
            + $"ironkeep run log {run.Id}\n";
        return WriteAsync(
            db,
            inForce.Charter.TellsOf(job),
            $"{Kebab.Of(run.Outcome!.Value)} job {run.Job} on {run.Machine}",
            body,
            "run-ended",
            answer,
            cancel
        );
    }

    /// <summary>Writes down one message for each of the channels.</summary>
    public async Task WriteAsync(
        KeepContext db,
        IEnumerable<string> channels,
        string title,
        string body,
        string type,
        object data,
        CancellationToken cancel
    )
    {
        var now = clock.Now();
        foreach (var channel in channels.Where(inForce.Charter.Channels.ContainsKey))
            db.Messages.Add(
                new Message
                {
                    Channel = channel,
                    Subject = $"Iron Keep {settings.Value.Machine}: {title}",
                    Body = body,
                    Type = type,
                    Data = JsonSerializer.Serialize(data, data.GetType(), ContractJson.Options),
                    MadeAt = now,
                    NextAt = now,
                }
            );
        await db.SaveChangesAsync(cancel);
        signal.Wake();
    }

    private IEnumerable<string> ChannelsOf(Subject subject)
    {
        var charter = inForce.Charter;
        if (subject.Kind == SubjectKind.Channel)
            return charter.Channels.Keys.Where(c => c != subject.Name);
        return subject.Kind == SubjectKind.Job && charter.Jobs.TryGetValue(subject.Job!, out var job)
            ? charter.TellsOf(job)
            : charter.Tells;
    }

    private static string Length(Duration d) =>
        d.TotalHours < 1 ? $"{(int)d.TotalMinutes} min"
        : d.TotalDays < 2 ? $"{(int)d.TotalHours} h"
        : $"{(int)d.TotalDays} days";
}

/// <summary>Wakes the teller when there is something new to carry.</summary>
public sealed class TellerSignal : WakeSignal;
