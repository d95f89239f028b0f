using IronKeep.Catalogue;
using IronKeep.Core.Quantities;
using IronKeep.Core.Watching;
using IronKeep.Runs;
using IronKeep.Service.Basics;
using IronKeep.Service.Runs;
using IronKeep.Service.Workers;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.Logging.Abstractions;
using Microsoft.Extensions.Options;
using NodaTime;

namespace IronKeep.Service.Hosting;

/// <summary>
/// "ironkeepd catalogue move --to TARGET": carries this service's catalogue, and the logs of its runs, to another database while it does
/// not run.
/// </summary>
public static class MoveCommand
{
    private const int Batch = 1000;

    /// <summary>
    /// What was done, as one sentence. Throws <see cref="StartRefusedException"/> and <see cref="MoveRefusedException"/>.
    /// </summary>
    public static async Task<string> RunAsync(string[] arguments, CancellationToken cancel)
    {
        if (arguments is not ["move", "--to", var to, .. var rest])
            throw new StartRefusedException(
                "say 'ironkeepd catalogue move --to TARGET', where TARGET is the absolute path of a new file or a PostgreSQL connection "
                    + "string, with the settings of the service after it"
            );
        var settings = SettingsFiles.Read(SettingsFiles.Builder(rest).Configuration.GetSection(ServiceSettings.Section));
        if (
            new ServiceSettings { Catalogue = to }
                .Problems([])
                .FirstOrDefault(p => p.Contains("IronKeep:Catalogue", StringComparison.Ordinal)) is
            { } wrong
        )
            throw new StartRefusedException(wrong.Replace("IronKeep:Catalogue", "--to", StringComparison.Ordinal));
        // The service that has the data folder must not be at work.
        using var claim = OnlyOne.Claim(settings.DataFolder);
        var from = settings.CatalogueAt;
        if (!settings.CatalogueIsShared && !File.Exists(from))
            throw new StartRefusedException(
                $"there is no catalogue at {from}; give the settings of the service, such as --IronKeep:DataFolder"
            );
        if (from == to)
            throw new StartRefusedException($"the catalogue is at {CatalogueKinds.Told(to)} already");
        await using var source = Open(from);
        await RefuseAtWorkAsync(source, cancel);
        var (rows, tables) = await CatalogueMove.MoveAsync(from, to, cancel);
        await using var target = Open(to);
        var logs = await MoveLogsAsync(settings, source, target, cancel);
        return $"{rows} rows of {tables} tables and {Counted.Of(logs, "line")} of run logs moved from {CatalogueKinds.Told(from)} to "
            + $"{CatalogueKinds.Told(to)}, and compared row by row. The old catalogue is as it was; start the service with "
            + $"IronKeep:Catalogue naming the new one";
    }

    private static KeepContext Open(string catalogue) =>
        new((DbContextOptions<KeepContext>)new DbContextOptionsBuilder<KeepContext>().UseCatalogue(catalogue, limited: false).Options);

    private static async Task RefuseAtWorkAsync(KeepContext source, CancellationToken cancel)
    {
        if (!source.IsPostgres())
            return;
        var since = await CatalogueKinds.NowAsync(source, cancel) - (long)Workers.WorkerSelf.LostAfter.TotalMilliseconds;
        var there = await source.Workers.Where(w => !w.Gone && w.BeatAt >= since).Select(w => w.Address).ToListAsync(cancel);
        if (there.Count > 0)
            throw new StartRefusedException($"services work on the catalogue ({string.Join(", ", there)}); stop them first");
    }

    /// <summary>Alone on its file a service keeps the logs of runs as files; several keep them in the catalogue.</summary>
    private static async Task<long> MoveLogsAsync(
        ServiceSettings settings,
        KeepContext source,
        KeepContext target,
        CancellationToken cancel
    )
    {
        var files = new FileRunLogs(Options.Create(settings), TimeProvider.System, NullLogger<FileRunLogs>.Instance);
        long count = 0;
        if (target.IsPostgres() && !source.IsPostgres())
        {
            foreach (var run in files.Runs())
            {
                var line = 0;
                for (var from = 0; ; )
                {
                    var part = await files.ReadAsync(run, from, LogSeverity.Info, cancel);
                    target.LogLines.AddRange(
                        part.Lines.Select(l => new LogLine
                        {
                            RunId = run,
                            Line = line++,
                            At = Instant.FromDateTimeOffset(l.At),
                            Severity = l.Severity,
                            Text = l.Text,
                        })
                    );
                    count += part.Lines.Count;
                    if (!part.More)
                        break;
                    from = part.Next;
                }
                if (target.ChangeTracker.Entries().Count() > Batch)
                    await SaveAsync();
            }
            await SaveAsync();
        }
        else if (source.IsPostgres() && !target.IsPostgres())
        {
            RunLogFile? file = null;
            long at = -1;
            await foreach (
                var line in source
                    .LogLines.AsNoTracking()
                    .OrderBy(l => l.RunId)
                    .ThenBy(l => l.Line)
                    .AsAsyncEnumerable()
                    .WithCancellation(cancel)
            )
            {
                if (line.RunId != at)
                {
                    file?.Dispose();
                    file = files.Anew(at = line.RunId);
                }
                file!.Write(line.Severity, line.Text, line.At);
                count++;
            }
            file?.Dispose();
        }
        return count;

        async Task SaveAsync()
        {
            await target.SaveChangesAsync(cancel);
            target.ChangeTracker.Clear();
        }
    }
}
