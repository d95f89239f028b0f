using IronKeep.Contracts;
using IronKeep.Core.Watching;
using IronKeep.Runs.Steps;

namespace IronKeep.Agent;

/// <summary>What runs owe that were interrupted when the agent or the machine stopped: run at the start, and said to the service.</summary>
internal sealed class OwedWork(ServiceLine line, StepRunner runner, OwedSteps notes, TextWriter log)
{
    private static readonly TimeSpan FirstPause = TimeSpan.FromSeconds(1),
        LongestPause = TimeSpan.FromMinutes(1);
    private readonly List<StepsOwedRequest> toSay = [];

    /// <summary>Runs all that is owed.</summary>
    public async Task PayAsync()
    {
        var (all, unreadable) = notes.All();
        foreach (var problem in unreadable)
            await log.WriteLineAsync($"{problem}; look at what the job stops, then remove the file");
        foreach (var run in all)
        {
            var lines = new List<CopyLine>();
            void Note(LogSeverity severity, string text)
            {
                if (lines.Count < 1000)
                    lines.Add(new CopyLine(severity, text));
            }
            Note(LogSeverity.Warning, "the agent was started anew in the middle of this run; its steps after are run now");
            await log.WriteLineAsync($"Run {run.Run} ({run.Job}) was interrupted; its steps after are run now");
            if ((await new StepsAround(run, runner, notes, Note).AfterAsync(success: false)).Problem is { } problem)
                await log.WriteLineAsync($"After run {run.Run} ({run.Job}): {problem}; look whether what the job stops runs again");
            toSay.Add(new StepsOwedRequest(run.Run, lines));
        }
    }

    /// <summary>Says it to the service until that took it.</summary>
    public async Task SayAsync(CancellationToken cancel)
    {
        foreach (var said in toSay)
            for (var pause = FirstPause; !cancel.IsCancellationRequested; pause = pause < LongestPause ? 2 * pause : LongestPause)
            {
                try
                {
                    await line.PostAsync<StepsOwedRequest, CopyReportAnswer>("steps-owed", said, cancel);
                    break;
                }
                catch (LineException e) when (e.Fault is LineFault.Away or LineFault.Absent or LineFault.Refused)
                {
                    await Task.Delay(pause, cancel).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
                }
                catch (Exception e) when (e is LineException or OperationCanceledException)
                {
                    break;
                }
            }
    }
}
