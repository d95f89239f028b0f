using System.Collections.Concurrent;
using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Quantities;
using IronKeep.Core.Watching;
using IronKeep.Runs;
using IronKeep.Service.Basics;
using IronKeep.Service.Facts;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace IronKeep.Service.Runs;

/// <summary>
/// The logs of runs as rows of the catalogue, so that each of its services can show them. Lines are written a few at a time by one loop, in
/// order; while the catalogue takes none they wait, up to a bound, and what does not fit is counted.
/// </summary>
public sealed class CatalogueRunLogs(IDbContextFactory<KeepContext> catalogue, TimeProvider clock, ILogger<CatalogueRunLogs> log)
    : BackgroundService,
        IRunLogs
{
    private const int MostLines = 10_000,
        LinesAtOnce = 1000;
    private static readonly TimeSpan WritesEvery = TimeSpan.FromMilliseconds(250);
    private readonly ConcurrentDictionary<long, Log> open = new();

    public IRunLog Open(long runId) => open.AddOrUpdate(runId, id => new Log(id, this), (_, log) => log.Again());

    public async Task<RunLogAnswer> ReadAsync(long runId, int from, LogSeverity least, CancellationToken cancel)
    {
        await WriteAsync(cancel);
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        var rows = await db
            .LogLines.AsNoTracking()
            .Where(l => l.RunId == runId && l.Line >= from)
            .OrderBy(l => l.Line)
            .Take(LinesAtOnce + 1)
            .ToListAsync(cancel);
        var shown = rows.Take(LinesAtOnce).ToList();
        var lines = shown.Where(l => l.Severity >= least).Select(l => new RunLogLine(l.At.ToDateTimeOffset(), l.Severity, l.Text)).ToList();
        return new RunLogAnswer(lines, shown.Count == 0 ? from : shown[^1].Line + 1, rows.Count > LinesAtOnce);
    }

    public async Task DropOlderThanAsync(Instant before, CancellationToken cancel)
    {
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        await db.LogLines.Where(l => db.Runs.Any(r => r.Id == l.RunId && r.Ended < before)).ExecuteDeleteAsync(cancel);
    }

    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        while (!stoppingToken.IsCancellationRequested)
        {
            await Task.Delay(WritesEvery, stoppingToken).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
            await TryWriteAsync();
        }
    }

    /// <summary>What was written last, by runs that ended with the service.</summary>
    public override async Task StopAsync(CancellationToken cancellationToken)
    {
        await base.StopAsync(cancellationToken);
        await TryWriteAsync();
    }

    private async Task TryWriteAsync()
    {
        try
        {
            await WriteAsync(CancellationToken.None);
        }
        catch (Exception e) when (CatalogueKinds.IsRefusal(e) || e is DbUpdateException)
        {
            log.LogWarning("Lines of run logs wait for the catalogue: {Problem}", e.Message);
        }
    }

    private async Task WriteAsync(CancellationToken cancel)
    {
        foreach (var (id, log) in open)
        {
            await log.WriteAsync(cancel);
            if (log.IsOver)
                open.TryRemove(id, out _);
        }
    }

    private sealed class Log(long runId, CatalogueRunLogs logs) : IRunLog
    {
        private readonly Queue<LogLine> waiting = new();
        private readonly SemaphoreSlim writing = new(1);
        private int users = 1,
            lines;
        private bool counted;

        public bool IsOver
        {
            get
            {
                lock (waiting)
                    return users == 0 && waiting.Count == 0;
            }
        }

        public Log Again()
        {
            lock (waiting)
                users++;
            return this;
        }

        public void Write(LogSeverity severity, string text)
        {
            lock (waiting)
            {
                lines++;
                if (lines <= MostLines)
                    Put(severity, text);
                else if (lines == MostLines + 1)
                    Put(LogSeverity.Warning, $"the log has {MostLines} lines; further lines are only counted");
            }
        }

        private void Put(LogSeverity severity, string text) =>
            waiting.Enqueue(
                new LogLine
                {
                    RunId = runId,
                    At = logs.Now,
                    Severity = severity,
                    Text = text,
                }
            );

        public async Task WriteAsync(CancellationToken cancel)
        {
            lock (waiting)
                if (waiting.Count == 0)
                    return;
            await writing.WaitAsync(cancel);
            try
            {
                List<LogLine> batch;
                lock (waiting)
                    batch = [.. waiting.Take(LinesAtOnce)];
                if (batch.Count == 0)
                    return;
                await using var db = await logs.Catalogue.CreateDbContextAsync(cancel);
                // Who took the run over may have added lines of its own.
                var next = await db.LogLines.Where(l => l.RunId == runId).MaxAsync(l => (int?)l.Line, cancel) + 1 ?? 0;
                foreach (var line in batch)
                    line.Line = next++;
                db.LogLines.AddRange(batch);
                await db.SaveChangesAsync(cancel);
                lock (waiting)
                    for (var i = 0; i < batch.Count; i++)
                        waiting.Dequeue();
            }
            finally
            {
                writing.Release();
            }
        }

        public void Dispose()
        {
            lock (waiting)
            {
                users--;
                if (users > 0 || lines <= MostLines || counted)
                    return;
                counted = true;
                Put(LogSeverity.Warning, $"{lines - MostLines} lines were not kept");
            }
        }
    }

    private IDbContextFactory<KeepContext> Catalogue => catalogue;

    private Instant Now => clock.Now();
}
