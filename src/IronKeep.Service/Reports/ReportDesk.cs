using System.Text.Json;
using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Reports;
using IronKeep.Core.Schedules;
using IronKeep.Core.Telling;
using IronKeep.Service.Basics;
using IronKeep.Service.Charters;
using IronKeep.Service.Telling;
using IronKeep.Service.Timetable;
using IronKeep.Service.Workers;
using Microsoft.EntityFrameworkCore;
using NodaTime;
using NodaTime.Text;

namespace IronKeep.Service.Reports;

/// <summary>
/// Writes down which reports are due, makes them in a loop of its own so that neither the clock nor a page waits, and keeps and tells them.
/// </summary>
public sealed class ReportDesk(
    IDbContextFactory<KeepContext> catalogue,
    CharterInForce inForce,
    ReportMaking making,
    TellingDesk telling,
    Leading leading,
    TimeProvider clock,
    ILogger<ReportDesk> log
) : BackgroundService, ITimedWork
{
    private static readonly TimeSpan LookEvery = TimeSpan.FromSeconds(5);

    /// <summary>How long it waits after one that could not be made.</summary>
    private static readonly TimeSpan TriesAgainAfter = TimeSpan.FromMinutes(1);
    private readonly WakeSignal signal = new();
    private readonly SemaphoreSlim one = new(1);

    /// <summary>How the loop comes round.</summary>
    public LoopRounds Rounds { get; } = new(clock);

    public string What => "report";

    public IEnumerable<(string Store, Schedule When)> Times(Charter charter) => charter.Reports.Values.Select(r => (r.Name, r.WhenOf));

    public async Task DoAsync(KeepContext db, string store, Instant due, CancellationToken cancel)
    {
        if (!inForce.Charter.Reports.TryGetValue(store, out var report))
            return;
        var (from, to) = ReportDefinition.LastOver(report.Every, due, inForce.Charter.Zone);
        db.Reports.Add(RowOf(report, from, to, tells: true));
        await db.SaveChangesAsync(cancel);
        signal.Wake();
    }

    /// <summary>Asks for a report of the period that begins on a date; null: the last whole one.</summary>
    public async Task<KeptReport> AskAsync(KeepContext db, ReportDefinition report, LocalDate? begins, CancellationToken cancel)
    {
        var (from, to) = ReportDefinition.LastOver(report.Every, clock.Now(), inForce.Charter.Zone);
        if (begins is { } on)
            (from, to) = (on, report.Every == ReportPeriod.Week ? on.PlusWeeks(1) : on.PlusMonths(1));
        var row = RowOf(report, from, to, tells: false);
        db.Reports.Add(row);
        await db.SaveChangesAsync(cancel);
        signal.Wake();
        return row;
    }

    /// <summary>Makes all that wait. One that cannot be made keeps no other waiting, and is thrown at the end.</summary>
    public async Task MakeAsync(CancellationToken cancel)
    {
        await one.WaitAsync(cancel);
        try
        {
            Exception? failed = null;
            foreach (var id in await WaitingAsync(cancel))
                try
                {
                    await using var db = await catalogue.CreateDbContextAsync(cancel);
                    if (await db.Reports.FirstOrDefaultAsync(r => r.Id == id && r.MadeAt == null, cancel) is { } row)
                        await OneAsync(db, row, cancel);
                }
                catch (Exception e) when (!cancel.IsCancellationRequested)
                {
                    log.LogError(e, "Report {Report} could not be made; it is tried again", id);
                    failed = e;
                }
            if (failed is not null)
                throw new InvalidOperationException($"a report could not be made: {failed.Message}", failed);
        }
        finally
        {
            one.Release();
        }
    }

    private async Task<List<long>> WaitingAsync(CancellationToken cancel)
    {
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        return await db.Reports.Where(r => r.MadeAt == null).OrderBy(r => r.Id).Select(r => r.Id).ToListAsync(cancel);
    }

    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        while (!stoppingToken.IsCancellationRequested)
        {
            try
            {
                await signal.WaitAsync(LookEvery, stoppingToken);
                if (leading.IsLeading)
                    await MakeAsync(stoppingToken);
                Rounds.Came();
            }
            catch (OperationCanceledException) when (stoppingToken.IsCancellationRequested)
            {
                break;
            }
            catch (Exception e)
            {
                Rounds.Failed(e);
                log.LogError(e, "Reports could not be made; they are tried again");
                await Task.Delay(TriesAgainAfter, stoppingToken).ContinueWith(_ => { }, TaskScheduler.Default);
            }
        }
    }

    private async Task OneAsync(KeepContext db, KeptReport row, CancellationToken cancel)
    {
        var now = clock.Now();
        if (!inForce.Charter.Reports.TryGetValue(row.Name, out var report))
        {
            (row.MadeAt, row.Problem) = (now, $"the charter has no report {row.Name} any more");
            await db.SaveChangesAsync(cancel);
            return;
        }
        ReportAnswer answer;
        try
        {
            answer = await making.MakeAsync(db, report, Date(row.From), Date(row.To), cancel);
        }
        catch (Exception e) when (!cancel.IsCancellationRequested)
        {
            // The reason stands beside it until it works.
            await db.Reports.Where(r => r.Id == row.Id).ExecuteUpdateAsync(s => s.SetProperty(r => r.Problem, e.Message), cancel);
            throw;
        }
        (row.MadeAt, row.Problem, row.Data) = (now, null, JsonSerializer.Serialize(answer, ContractJson.Options));
        // Made and told are one change: none is told twice, and none is forgotten.
        await using var change = await leading.BeginAsync(db, cancel);
        if (row.Tells && !report.Tells.IsEmpty)
            await telling.WriteAsync(
                db,
                Addressees.Of(inForce.Charter, report.Tells, now),
                new Words(ReportPages.Title(answer), ReportPages.Text(answer), "report", answer) { Html = ReportPages.Html(answer) },
                cancel
            );
        await db.SaveChangesAsync(cancel);
        await change.CommitAsync(cancel);
    }

    private KeptReport RowOf(ReportDefinition report, LocalDate from, LocalDate to, bool tells) =>
        new()
        {
            Name = report.Name,
            Every = report.Every,
            From = LocalDatePattern.Iso.Format(from),
            To = LocalDatePattern.Iso.Format(to),
            AskedAt = clock.Now(),
            Tells = tells,
        };

    private static LocalDate Date(string text) => LocalDatePattern.Iso.Parse(text).Value;

    public override void Dispose()
    {
        signal.Dispose();
        one.Dispose();
        base.Dispose();
    }
}
