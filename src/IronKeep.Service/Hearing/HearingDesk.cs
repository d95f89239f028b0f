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
/// Takes reports of watched jobs, from whatever source, and makes runs of them. Those that come at the same time are one change, so that a thousand a
/// second cost the catalogue few commits; each is answered when it is safe.
/// </summary>
public sealed class HearingDesk(CharterInForce inForce, IDbContextFactory<KeepContext> catalogue, IRunLogs logs, EventHub events, FactSignal signal, TimeProvider clock, ILogger<HearingDesk> log) : BackgroundService
{
    private const int MostAtOnce = 500, MostWaiting = 20_000;
    private static readonly Duration RemembersReports = Duration.FromDays(30);
    private readonly Channel<Waiting> waiting = Channel.CreateBounded<Waiting>(MostWaiting);
    private Instant tidied = Instant.MinValue;

    private sealed record Waiting(Report Report, TaskCompletionSource<Taken> Done);

    /// <summary>Takes a report; completed when it is in the catalogue. Throws what the catalogue throws: then nothing was taken, and it may come again.</summary>
    public async Task<Taken> TakeAsync(Report report, CancellationToken cancel)
    {
        var done = new TaskCompletionSource<Taken>(TaskCreationOptions.RunContinuationsAsynchronously);
        await waiting.Writer.WriteAsync(new Waiting(report, done), cancel);
        return await done.Task.WaitAsync(cancel);
    }

    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        var batch = new List<Waiting>();
        while (await NextAsync(batch, stoppingToken))
        {
            try
            {
                var taken = await TakeAllAsync([.. batch.Select(w => w.Report)]);
                for (var i = 0; i < batch.Count; i++) batch[i].Done.TrySetResult(taken[i]);
            }
            catch (Exception e)
            {
                log.LogError(e, "Reports of watched jobs could not be taken; whoever sent them is told");
                foreach (var one in batch) one.Done.TrySetException(e);
            }
        }
    }

    private async Task<bool> NextAsync(List<Waiting> batch, CancellationToken stopping)
    {
        batch.Clear();
        try
        {
            if (!await waiting.Reader.WaitToReadAsync(stopping)) return false;
        }
        catch (OperationCanceledException)
        {
            waiting.Writer.TryComplete();
            while (waiting.Reader.TryRead(out var left)) left.Done.TrySetCanceled(CancellationToken.None);
            return false;
        }
        while (batch.Count < MostAtOnce && waiting.Reader.TryRead(out var one)) batch.Add(one);
        return true;
    }

    /// <summary>Takes reports in their order, as one change.</summary>
    public async Task<IReadOnlyList<Taken>> TakeAllAsync(IReadOnlyList<Report> reports)
    {
        await using var db = await catalogue.CreateDbContextAsync();
        List<HeardRun> heard;
        await using (var change = await db.BeginChangeAsync(CancellationToken.None))
        {
            var hearing = await HearingRound.BeginAsync(db, inForce.Charter, reports, clock.Now());
            heard = [.. reports.Select(hearing.Take)];
            await hearing.SaveAsync();
            await NoteAddressesAsync(db, reports);
            await TidyAsync(db);
            await change.CommitAsync(CancellationToken.None);
        }
        foreach (var one in heard.Where(h => h.Lines.Count > 0).DistinctBy(h => h.Report)) Write(one);
        foreach (var run in heard.Select(h => h.Run).OfType<Run>().DistinctBy(r => r.Id)) events.Publish(run);
        signal.Wake();
        return [.. heard.Select(h => new Taken(h.Run?.Id, h.Planned?.Due ?? h.Run?.Due, h.Run?.Outcome, h.Run?.Sentence))];
    }

    /// <summary>When each address was heard last, to the minute: whoever looks at a job sees whether its script still calls.</summary>
    private async Task NoteAddressesAsync(KeepContext db, IReadOnlyList<Report> reports)
    {
        var (now, heard) = (clock.Now(), reports.Select(r => r.Address).OfType<long>().Distinct().ToList());
        if (heard.Count == 0) return;
        var before = now - Duration.FromMinutes(1);
        await db.CheckInAddresses.Where(a => heard.Contains(a.Id) && (a.LastHeardAt == null || a.LastHeardAt < before)).ExecuteUpdateAsync(s => s.SetProperty(a => a.LastHeardAt, now));
    }

    private void Write(HeardRun heard)
    {
        using var file = logs.Open(heard.Run!.Id);
        foreach (var (severity, text) in heard.Lines) file.Write(severity, text);
    }

    private async Task TidyAsync(KeepContext db)
    {
        var now = clock.Now();
        if (now >= tidied && now - tidied < Duration.FromHours(1)) return;
        tidied = now;
        var before = now - RemembersReports;
        await db.TakenReports.Where(r => r.At < before).ExecuteDeleteAsync();
    }
}
