using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Watching;
using IronKeep.Runs;
using IronKeep.Runs.Steps;
using IronKeep.Service.Basics;
using IronKeep.Service.Machines;
using IronKeep.Service.Runs;
using Microsoft.Extensions.Options;

namespace IronKeep.Service.Backups;

/// <summary>The steps around the copies of one run, wherever they are run.</summary>
internal interface IStepsOfRun
{
    /// <summary>Runs those before; a step that fails is a <see cref="RunFailedException"/>.</summary>
    Task BeforeAsync(CancellationToken cancel);

    /// <summary>Runs those after, whatever became of those before. Nobody cancels it.</summary>
    Task<StepsEnding> AfterAsync(bool success);
}

/// <summary>
/// Has the steps of jobs run on their machine: here, or by its agent. What was owed when the service was killed is done at its next start.
/// </summary>
public sealed class StepsDesk(
    AgentOrders orders,
    AgentPatience patience,
    MachineStandings standings,
    ServicesToKeep keeps,
    IRunLogs logs,
    IOptions<ServiceSettings> settings,
    TimeProvider clock,
    ILogger<StepsDesk> log
) : BackgroundService
{
    private readonly AllowedFile allowed = new(settings.Value.AllowedCommands);
    private readonly OwedSteps owed = new(Path.Combine(settings.Value.DataFolder, "owed-steps"));

    /// <summary>The steps of a run; null where its job has none.</summary>
    internal IStepsOfRun? Of(LiveRun live, PlacedJob job, JobSteps steps) =>
        steps.IsEmpty ? null
        : live.Run.Machine == settings.Value.Machine
            ? new StepsHere(
                new StepsAround(new OwedRun(live.Run.Id, job.Name, clock.GetUtcNow(), RunSteps.Of(steps)), Runner, owed, live.Log),
                paid.Task
            )
        : new RemoteSteps(live, job.Name, RunSteps.Of(steps), orders, patience);

    private readonly TaskCompletionSource paid = new(TaskCreationOptions.RunContinuationsAsynchronously);

    /// <summary>What runs commands on the service's own machine.</summary>
    internal StepRunner Runner => new(allowed.Read, allowed.Path);

    /// <summary>Keeps services of the service's own machine up.</summary>
    private async Task KeepUpAsync(CancellationToken cancel)
    {
        var watch = new ServiceWatch(Runner, owed, Path.Combine(settings.Value.DataFolder, "service-starts.json"), clock, sentence =>
            log.LogWarning("{Sentence}", sentence)
        );
        standings.OwnServices = () => watch.Now;
        void Keep() => watch.Keep(keeps.Of(settings.Value.Machine));
        Keep();
        keeps.Changed += Keep;
        await watch.RunAsync(cancel);
        keeps.Changed -= Keep;
    }

    /// <summary>Runs what interrupted runs of before owe; no other step is begun before that.</summary>
    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        await Task.Yield();
        try
        {
            await PayAsync();
        }
        finally
        {
            paid.TrySetResult();
        }
        await KeepUpAsync(stoppingToken);
    }

    private async Task PayAsync()
    {
        var (all, unreadable) = owed.All();
        foreach (var problem in unreadable)
            log.LogError("{Problem}; look at what the job stops, then remove the file", problem);
        foreach (var run in all)
        {
            using var said = logs.Open(run.Run);
            said.Write(LogSeverity.Warning, "the service was started anew in the middle of this run; its steps after are run now");
            log.LogWarning("Run {Run} ({Job}) was interrupted; its steps after are run now", run.Run, run.Job);
            var around = new StepsAround(run, Runner, owed, said.Write);
            if ((await around.AfterAsync(success: false)).Problem is { } problem)
                log.LogError("After run {Run} ({Job}): {Problem}; look whether what the job stops runs again", run.Run, run.Job, problem);
        }
    }

    private sealed class StepsHere(StepsAround around, Task paid) : IStepsOfRun
    {
        public async Task BeforeAsync(CancellationToken cancel)
        {
            await paid.WaitAsync(cancel);
            await around.BeforeAsync(cancel);
        }

        public Task<StepsEnding> AfterAsync(bool success) => around.AfterAsync(success);
    }
}

/// <summary>The steps of one run on another machine: its agent runs them, and hears with each report how the copies went.</summary>
internal sealed class RemoteSteps(LiveRun live, string job, RunSteps steps, AgentOrders orders, AgentPatience patience)
    : IStepsOfRun,
        IStepsTalk
{
    private const string Afterwards = "it runs the steps after by itself, at its start or when it hears nothing more";
    private readonly SaidLines said = new(live);
    private readonly TaskCompletionSource ready = new(TaskCreationOptions.RunContinuationsAsynchronously);
    private readonly TaskCompletionSource<StepsEnding> ended = new(TaskCreationOptions.RunContinuationsAsynchronously);
    private AgentOrder? given;
    private bool over;

    // 0: the copies are being made; 1: they went well; 2: they did not.
    private volatile int verdict;

    public bool? Success => verdict == 0 ? null : verdict == 1;

    public async Task BeforeAsync(CancellationToken cancel)
    {
        given = orders.Give(
            live.Run.Machine,
            token => new StepsOrder(
                token,
                live.Run.Id,
                job,
                OrderEndpoints.Words(steps.Before),
                steps.Until is { } until ? OrderEndpoints.Word(until) : null,
                steps.Patience.TotalSeconds,
                OrderEndpoints.Words(steps.AfterSuccess),
                OrderEndpoints.Words(steps.AfterFailure),
                OrderEndpoints.Words(steps.AlwaysAfter)
            ),
            this
        );
        await patience.WaitAsync(given, ready.Task, Afterwards, cancel);
        await ready.Task;
    }

    public async Task<StepsEnding> AfterAsync(bool success)
    {
        if (given is null)
            return new StepsEnding(null, null, null);
        try
        {
            // Nobody came for it, so nothing was run.
            if (given.IsWaiting)
                return new StepsEnding(null, null, null);
            verdict = success ? 1 : 2;
            await patience.WaitAsync(given, ended.Task, Afterwards, CancellationToken.None);
            return await ended.Task;
        }
        catch (RunFailedException e)
        {
            var unknown = $"how the steps after went is not known: {e.Message}";
            live.Log(LogSeverity.Warning, unknown);
            // A run that failed already has its cause; one that went well so far has not.
            return new StepsEnding(success ? unknown : null, null, null);
        }
        finally
        {
            lock (said)
                over = true;
            given.End();
        }
    }

    public void Report(CopyReportRequest report)
    {
        lock (said)
        {
            if (over)
                throw new OrderOverException();
            said.Take(report);
        }
    }

    public void Ready(StepsReadyRequest request)
    {
        Report(request.Report);
        if (request.Failure is { } failure)
            ready.TrySetException(new RunFailedException(failure, SaidLines.Plain(request.Message ?? "a step failed")));
        else
            ready.TrySetResult();
    }

    public void End(StepsEndRequest request)
    {
        if (ended.Task.IsCompleted)
            return;
        Report(request.Report);
        // One that is stopped ends without a word of those before.
        ready.TrySetException(
            new RunFailedException(FailureClass.Interrupted, $"the agent of {live.Run.Machine} was stopped while the steps before were run")
        );
        ended.TrySetResult(
            new StepsEnding(
                request.Problem is { } problem ? SaidLines.Plain(problem) : null,
                request.AfterSuccessProblem is { } after ? SaidLines.Plain(after) : null,
                request.DownSeconds is { } down ? TimeSpan.FromSeconds(Math.Clamp(down, 0, 1e8)) : null
            )
        );
    }

    /// <summary>The steps before are not to be gone on with; those after are run.</summary>
    public void Fail(CopyFailRequest request) => Ready(new StepsReadyRequest(request.Report, request.Failure, request.Message));
}
