using IronKeep.Contracts;
using IronKeep.Core.Watching;
using IronKeep.Runs;

namespace IronKeep.Agent;

/// <summary>
/// What is said of an order while it is carried out: figures and lines of its log, each second, and at the end why it came to nothing.
/// Lines stay here until the service took them.
/// </summary>
internal sealed class WorkReports(ServiceLine line, string path, Func<CopyFigures> figures)
{
    private static readonly TimeSpan ReportsEvery = TimeSpan.FromSeconds(1),
        TellsWithin = TimeSpan.FromSeconds(10);

    // A report must fit into what the service takes at once, whatever the names of files are.
    public const int MostText = 4000;
    private const int MostLines = 500,
        MostLetters = 100_000,
        MostWaiting = 20_000;
    private readonly Lock gate = new();
    private readonly Queue<CopyLine> lines = [];
    private long first;

    public void Log(LogSeverity severity, string text)
    {
        lock (gate)
            if (lines.Count < MostWaiting)
                lines.Enqueue(new CopyLine(severity, text.Length > MostText ? text[..MostText] + "…" : text));
            else if (lines.Count == MostWaiting)
                lines.Enqueue(
                    new CopyLine(LogSeverity.Warning, $"more than {MostWaiting} lines waited for the line; some are left out here")
                );
    }

    /// <summary>How fast what the order is about may travel; the service says it with each answer.</summary>
    public LinePace Pace { get; } = new(TimeProvider.System);

    /// <summary>What is to be said now.</summary>
    public CopyReportRequest Now()
    {
        var letters = 0;
        lock (gate)
            return new CopyReportRequest(
                figures(),
                first,
                [.. lines.Take(MostLines).TakeWhile(l => (letters += l.Text.Length) <= MostLetters)]
            );
    }

    /// <summary>Reports until it has ended; cancels what gives it up when the service says so.</summary>
    public async Task KeepOnAsync(CancellationTokenSource giveUp, CancellationToken ended)
    {
        while (!ended.IsCancellationRequested)
        {
            await Task.Delay(ReportsEvery, ended).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
            if (ended.IsCancellationRequested)
                return;
            try
            {
                if (await SayAsync(ended))
                    await giveUp.CancelAsync();
            }
            catch (LineException e) when (e.Fault is LineFault.Over or LineFault.Refused)
            {
                await giveUp.CancelAsync();
                return;
            }
            catch (Exception e) when (e is LineException or OperationCanceledException)
            {
                // Said with the next report.
            }
        }
    }

    /// <summary>
    /// Carries an order out while it is reported on, and says what became of it, in one sentence. What is known to go wrong is told as a
    /// failure of the run, by <paramref name="known"/>; <paramref name="afterwards"/> is what becomes of an order that is broken off.
    /// </summary>
    public async Task<string> CarryOutAsync(
        string what,
        Func<CancellationToken, Task<string>> work,
        Func<Exception, RunFailedException?> known,
        string afterwards,
        CancellationToken stopping
    )
    {
        using var giveUp = CancellationTokenSource.CreateLinkedTokenSource(stopping);
        using var ended = new CancellationTokenSource();
        var reporting = KeepOnAsync(giveUp, ended.Token);
        try
        {
            return $"{what}: {await work(giveUp.Token)}";
        }
        catch (LineException e)
        {
            if (e.Fault is LineFault.Wrong or LineFault.Away)
                await TellAsync(FailureClass.Unknown, e.Message);
            return $"{what}: {e.Message}";
        }
        catch (OperationCanceledException)
        {
            if (stopping.IsCancellationRequested)
                await TellAsync(FailureClass.Interrupted, $"the agent was stopped in the middle of it; {afterwards}");
            return $"{what}: given up";
        }
        catch (Exception e) when (known(e) is { } failure)
        {
            await TellAsync(failure.Class, failure.Message);
            return $"{what} failed: {failure.Message}";
        }
        finally
        {
            await ended.CancelAsync();
            await reporting;
        }
    }

    /// <summary>
    /// The last report, once so much of the log was said that the rest fits into it; tries again as <see cref="Patiently"/>.
    /// </summary>
    public CopyReportRequest Last(CancellationToken cancel) =>
        Patiently.Ask(
            async () =>
            {
                for (var report = Now(); report.Lines.Count < Waiting; report = Now())
                    await SayAsync(cancel);
                return Now();
            },
            cancel
        );

    /// <summary>Says why it came to nothing, if anybody hears it.</summary>
    private async Task TellAsync(FailureClass failure, string message)
    {
        try
        {
            using var limit = new CancellationTokenSource(TellsWithin);
            await line.PostAsync<CopyFailRequest, CopyReportAnswer>(
                $"{path}/fail",
                new CopyFailRequest(Now(), failure, message),
                limit.Token
            );
        }
        catch (Exception e) when (e is LineException or OperationCanceledException)
        {
            // The service notices by the silence.
        }
    }

    private int Waiting
    {
        get
        {
            lock (gate)
                return lines.Count;
        }
    }

    /// <summary>Says it once; whether it is to be given up.</summary>
    private async Task<bool> SayAsync(CancellationToken cancel)
    {
        var report = Now();
        var answer = await line.PostAsync<CopyReportRequest, CopyReportAnswer>($"{path}/report", report, cancel);
        Pace.PerSecond = answer.PerSecond;
        lock (gate)
        {
            // Two may have said the same at once.
            for (; first < report.First + report.Lines.Count; first++)
                lines.Dequeue();
        }
        return answer.Stop;
    }
}
