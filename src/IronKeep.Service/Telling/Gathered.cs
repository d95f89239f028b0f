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
using IronKeep.Service.Copies;
using IronKeep.Service.Runs;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace IronKeep.Service.Telling;

/// <summary>Puts what was gathered into words when its time has come: how it stands by then, the gravest first.</summary>
internal static class Gathered
{
    /// <summary>How many alerts and runs are named; the rest is counted.</summary>
    private const int MostNamed = 40;

    public static async Task PutIntoWordsAsync(
        KeepContext db,
        Message telling,
        Charter charter,
        string machine,
        Instant now,
        CancellationToken cancel
    )
    {
        var entries = telling.Entries.Split('\n', StringSplitOptions.RemoveEmptyEntries);
        var alerts = new List<Alert>();
        foreach (var some in Ids(entries, "alert ").Chunk(500))
            alerts.AddRange(await db.Alerts.AsNoTracking().Where(a => some.Contains(a.Id)).ToListAsync(cancel));
        var runs = new List<Run>();
        foreach (var some in Ids(entries, "run ").Chunk(500))
            runs.AddRange(await db.Runs.AsNoTracking().Where(r => some.Contains(r.Id)).ToListAsync(cancel));
        alerts = [.. alerts.OrderBy(a => a.State == AlertState.Closed).ThenByDescending(a => a.Severity).ThenBy(a => a.Id)];
        var failures = await FailuresAsync(db, alerts, cancel);
        var title = Title(alerts, runs, failures, charter, now);
        var body = new StringBuilder();
        body.Append(CultureInfo.InvariantCulture, $"{Sentence.Begin(title)}.\nGathered with {telling.Gathers}.\n\n");
        foreach (var alert in alerts.Take(MostNamed))
        {
            var state = alert.State == AlertState.Closed ? "closed" : Severities.Words(alert.Severity);
            body.Append(
                CultureInfo.InvariantCulture,
                $"{Kebab.Of(alert.Class).ToUpperInvariant()} {alert.Subject.Words} ({state}, alert {alert.Id})\n{alert.Message}\n\n"
            );
        }
        if (alerts.Count > MostNamed)
            body.Append(CultureInfo.InvariantCulture, $"And {Counted.Of(alerts.Count - MostNamed, "alert")} more: ironkeep alert list\n\n");
        foreach (var run in runs.Take(MostNamed))
            body.Append(CultureInfo.InvariantCulture, $"{Kebab.Of(run.Outcome!.Value)} job {run.Job} on {run.Machine}: {run.Sentence}\n");
        if (runs.Count > MostNamed)
            body.Append(CultureInfo.InvariantCulture, $"And {Counted.Of(runs.Count - MostNamed, "run")} more: ironkeep run list\n");
        telling.MadeAt = now;
        telling.Subject = $"Iron Keep {machine}: {title}";
        telling.Body = body.ToString();
        telling.Data = JsonSerializer.Serialize(
            new GatheredAnswer(
                telling.Gathers!,
                title,
                [.. alerts.Take(MostNamed).Select(a => a.ToAnswer())],
                [.. runs.Take(MostNamed).Select(r => r.ToAnswer(charter: charter))],
                alerts.Count,
                runs.Count
            ),
            ContractJson.Options
        );
    }

    /// <summary>"41 alerts on 6 machines since 01:10, 3 of them over; the cause they share: the store does not answer".</summary>
    private static string Title(List<Alert> alerts, List<Run> runs, List<FailureClass> failures, Charter charter, Instant now)
    {
        var parts = new List<string>();
        if (alerts.Count > 0)
        {
            var machines = alerts.Select(a => a.SubjectMachine).OfType<string>().Distinct().Count();
            var where = machines > 1 ? $" on {machines} machines" : "";
            var first = alerts.Min(a => a.OpenedAt);
            var since =
                first.InZone(charter.Zone).Date == now.InZone(charter.Zone).Date
                    ? first.InZone(charter.Zone).ToString("HH:mm", CultureInfo.InvariantCulture)
                    : first.Local(charter.Zone);
            var over = alerts.Count(a => a.State == AlertState.Closed);
            var closed =
                over == 0 ? ""
                : over == alerts.Count ? (over == 1 ? ", and it is over" : ", and all are over")
                : $", {over} of them over";
            parts.Add($"{Counted.Of(alerts.Count, "alert")}{where} since {since}{closed}");
        }
        if (runs.Count > 0)
            parts.Add(Counted.Of(runs.Count, "run"));
        var shared = failures.Count > 1 && failures.Distinct().Count() == 1 && failures.Count == alerts.Count;
        return string.Join(" and ", parts) + (shared ? $"; the cause they share: {charter.CauseOf(failures[0])}" : "");
    }

    private static async Task<List<FailureClass>> FailuresAsync(KeepContext db, List<Alert> alerts, CancellationToken cancel)
    {
        var ids = alerts.Where(a => a.Class == AlertClass.Failed).Select(a => a.RunId).OfType<long>().ToList();
        var failures = new List<FailureClass>();
        foreach (var some in ids.Chunk(500))
            failures.AddRange(
                await db
                    .Runs.AsNoTracking()
                    .Where(r => some.Contains(r.Id) && r.Failure != null)
                    .Select(r => r.Failure!.Value)
                    .ToListAsync(cancel)
            );
        return failures;
    }

    public static IEnumerable<long> Ids(string[] entries, string kind) =>
        entries
            .Where(e => e.StartsWith(kind, StringComparison.Ordinal))
            .Select(e => long.Parse(e.AsSpan(kind.Length), NumberStyles.None, CultureInfo.InvariantCulture));
}
