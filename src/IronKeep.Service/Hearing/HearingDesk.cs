using System.Collections.Concurrent;
using System.Threading.Channels;
using IronKeep.Catalogue;
using IronKeep.Core.Charters;
using IronKeep.Core.Schedules;
using IronKeep.Core.Watching;
using IronKeep.Service.Basics;
using IronKeep.Service.Charters;
using IronKeep.Service.Events;
using IronKeep.Service.Facts;
using IronKeep.Service.Runs;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace IronKeep.Service.Hearing;

/// <summary>
/// Takes reports of watched jobs, from whatever source, and makes runs of them. Those that come at the same time are one change, so that a
/// thousand a second cost the catalogue few commits; each is answered when it is safe.
/// </summary>
public sealed class HearingDesk(
    CharterInForce inForce,
    IDbContextFactory<KeepContext> catalogue,
    IRunLogs logs,
    EventHub events,
    FactSignal signal,
    TimeProvider clock,
    ILogger<HearingDesk> log
) : BackgroundService
{
    private const int MostAtOnce = 500,
        MostWaiting = 20_000;
    private static readonly Duration RemembersReports = Duration.FromDays(30);
    private readonly Channel<Waiting> waiting = Channel.CreateBounded<Waiting>(MostWaiting);
    private readonly ConcurrentDictionary<long, Instant> noted = new();
    private Instant tidied = Instant.MinValue;

    private sealed record Waiting(Report Report, TaskCompletionSource<Taken> Done);

    /// <summary>
    /// Takes a report; completed when it is in the catalogue. Throws what the catalogue throws: then nothing was taken, and it may come
    /// again.
    /// </summary>
    public async Task<Taken> TakeAsync(Report report, CancellationToken cancel)
    {
        var done = new TaskCompletionSource<Taken>(TaskCreationOptions.RunContinuationsAsynchronously);
        await waiting.Writer.WriteAsync(new Waiting(report, done), cancel);
        return await done.Task.WaitAsync(cancel);
    }

    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        var batch = new List<Waiting>();
        // While lines are written into the logs of runs, the next reports are taken; the logs are written in their order.
        var before = Task.CompletedTask;
        while (await NextAsync(batch, stoppingToken))
        {
            Waiting[] these = [.. batch];
            try
            {
                var heard = await ChangeAsync([.. these.Select(w => w.Report)]);
                await before;
                before = Task.Run(() => FinishAll(these, heard), CancellationToken.None);
            }
            catch (Exception e)
            {
                log.LogError(e, "Reports of watched jobs could not be taken; whoever sent them is told");
                foreach (var one in these)
                    one.Done.TrySetException(e);
            }
        }
        await before;
    }

    private void FinishAll(Waiting[] batch, List<HeardRun> heard)
    {
        try
        {
            var taken = Finish(heard);
            for (var i = 0; i < batch.Length; i++)
                batch[i].Done.TrySetResult(taken[i]);
        }
        catch (Exception e)
        {
            // They are taken all the same; whoever says it again is told so.
            log.LogError(e, "What watched jobs wrote could not be kept in the logs of their runs");
            foreach (var one in batch)
                one.Done.TrySetException(e);
        }
    }

    private async Task<bool> NextAsync(List<Waiting> batch, CancellationToken stopping)
    {
        batch.Clear();
        try
        {
            if (!await waiting.Reader.WaitToReadAsync(stopping))
                return false;
        }
        catch (OperationCanceledException)
        {
            waiting.Writer.TryComplete();
            while (waiting.Reader.TryRead(out var left))
                left.Done.TrySetCanceled(CancellationToken.None);
            return false;
        }
        while (batch.Count < MostAtOnce && waiting.Reader.TryRead(out var one))
            batch.Add(one);
        return true;
    }

    /// <summary>Takes reports in their order, as one change.</summary>
    public async Task<IReadOnlyList<Taken>> TakeAllAsync(IReadOnlyList<Report> reports) => Finish(await ChangeAsync(reports));

    private async Task<List<HeardRun>> ChangeAsync(IReadOnlyList<Report> reports)
    {
        await using var db = await catalogue.CreateDbContextAsync();
        await using var change = await db.BeginChangeAsync(CancellationToken.None);
        var now = clock.Now();
        var hearing = await HearingRound.BeginAsync(db, inForce.Charter, reports, now);
        List<HeardRun> heard = [.. reports.Select(hearing.Take)];
        await hearing.SaveAsync();
        await NoteAddressesAsync(db, reports, now);
        await TidyAsync(db, now);
        await change.CommitAsync(CancellationToken.None);
        signal.Wake();
        return heard;
    }

    private IReadOnlyList<Taken> Finish(List<HeardRun> heard)
    {
        foreach (var one in heard.Where(h => h.Lines.Count > 0).DistinctBy(h => h.Report))
            Write(one);
        foreach (var run in heard.Select(h => h.Run).OfType<Run>().DistinctBy(r => r.Id))
            events.Publish(run);
        return [.. heard.Select(h => new Taken(h.Run?.Id, h.Planned?.Due ?? h.Run?.Due, h.Run?.Outcome, h.Run?.Sentence))];
    }

    /// <summary>When each address was heard last, to the minute: whoever looks at a job sees whether its script still calls.</summary>
    private async Task NoteAddressesAsync(KeepContext db, IReadOnlyList<Report> reports, Instant now)
    {
        var before = now - Duration.FromMinutes(1);
        var heard = reports
            .Select(r => r.Address)
            .OfType<long>()
            .Distinct()
            .Where(a => !noted.TryGetValue(a, out var at) || at < before || at > now)
            .ToList();
        if (heard.Count == 0)
            return;
        await db.CheckInAddresses.Where(a => heard.Contains(a.Id)).ExecuteUpdateAsync(s => s.SetProperty(a => a.LastHeardAt, now));
        foreach (var one in heard)
            noted[one] = now;
    }

    private void Write(HeardRun heard)
    {
        using var file = logs.Open(heard.Run!.Id);
        foreach (var (severity, text) in heard.Lines)
            file.Write(severity, text);
    }

    private async Task TidyAsync(KeepContext db, Instant now)
    {
        if (now >= tidied && now - tidied < Duration.FromHours(1))
            return;
        tidied = now;
        var before = now - RemembersReports;
        await db.TakenReports.Where(r => r.At < before).ExecuteDeleteAsync();
    }
}
