using System.Diagnostics;
using IronKeep.Contracts;
using IronKeep.Core.Watching;
using IronKeep.Runs;
using IronKeep.Runs.Steps;

namespace IronKeep.Agent;

/// <summary>
/// Runs the steps of one run on this machine: those before at once, those after when the service says how the copies went or that the run
/// is over, when it was not heard of for a quarter of an hour, or when the agent stops.
/// </summary>
internal sealed class StepsWork(ServiceLine line, StepRunner runner, OwedSteps notes, Task paid, StepsOrder order)
{
    private static readonly TimeSpan AsksEvery = TimeSpan.FromSeconds(1),
        WaitsForService = TimeSpan.FromMinutes(15),
        EndsWithin = TimeSpan.FromSeconds(10);
    private readonly WorkReports reports = new(line, $"steps/{order.Token}", () => new CopyFigures(0, 0, 0, 0, 0, 0, 0, 0, 0, 0));

    /// <summary>In one sentence how it ended.</summary>
    public async Task<string> DoAsync(CancellationToken stopping)
    {
        var what = $"steps of run {order.Run}, {order.Job}";
        try
        {
            if (Ask("begin", new OrderBeginRequest(line.Instance), stopping) is { Stop: true } or { Success: not null })
                return $"{what}: given up before they began";
        }
        catch (Exception e) when (e is LineException or OperationCanceledException)
        {
            return $"{what}: not begun: {e.Message}";
        }
        var owed = new OwedRun(order.Run, order.Job, DateTimeOffset.UtcNow, StepsOf(order));
        var around = new StepsAround(owed, runner, notes, reports.Log);
        var success = await BeforeAsync(around, stopping) && await VerdictAsync(stopping);
        var ending = await AfterAsync(around, success);
        End(ending, stopping);
        return ending.Problem is { } problem ? $"{what}: {problem}" : $"{what}: done, after {(success ? "success" : "failure")}";
    }

    /// <summary>Whether the steps before took hold, and the service knows.</summary>
    private async Task<bool> BeforeAsync(StepsAround around, CancellationToken stopping)
    {
        using var giveUp = CancellationTokenSource.CreateLinkedTokenSource(stopping);
        using var ended = new CancellationTokenSource();
        var reporting = reports.KeepOnAsync(giveUp, ended.Token);
        StepsReadyRequest said;
        try
        {
            // What runs of before owe comes first.
            await paid.WaitAsync(giveUp.Token);
            await around.BeforeAsync(giveUp.Token);
            said = new StepsReadyRequest(reports.Now(), null, null);
        }
        catch (RunFailedException e)
        {
            said = new StepsReadyRequest(reports.Now(), e.Class, e.Message);
        }
        catch (OperationCanceledException)
        {
            said = new StepsReadyRequest(reports.Now(), FailureClass.Interrupted, "it was ended while the steps before were run");
        }
        finally
        {
            await ended.CancelAsync();
            await reporting;
        }
        try
        {
            // While the service is away what was stopped is down.
            Ask("ready", said, stopping, said.Failure is null ? WaitsForService : EndsWithin);
            return said.Failure is null;
        }
        catch (Exception e) when (e is LineException or OperationCanceledException)
        {
            return false;
        }
    }

    /// <summary>Runs the steps after; the service hears meanwhile that we are at work, and has nothing to end any more.</summary>
    private async Task<StepsEnding> AfterAsync(StepsAround around, bool success)
    {
        using var nothing = new CancellationTokenSource();
        using var ended = new CancellationTokenSource();
        var reporting = reports.KeepOnAsync(nothing, ended.Token);
        var ending = await around.AfterAsync(success);
        await ended.CancelAsync();
        await reporting;
        return ending;
    }

    /// <summary>Waits until the service says how the copies went.</summary>
    private async Task<bool> VerdictAsync(CancellationToken stopping)
    {
        for (var heard = Stopwatch.StartNew(); ; )
        {
            try
            {
                await Task.Delay(AsksEvery, stopping);
                var answer = await line.PostAsync<CopyReportRequest, StepsReportAnswer>(
                    $"steps/{order.Token}/report",
                    new CopyReportRequest(new CopyFigures(0, 0, 0, 0, 0, 0, 0, 0, 0, 0), 0, []),
                    stopping
                );
                heard.Restart();
                if (answer.Success is { } success)
                    return success;
            }
            catch (LineException e) when (e.Fault == LineFault.Away && heard.Elapsed < WaitsForService)
            {
                // It may come back; what was stopped stays so as long as its copies can still be made.
            }
            catch (Exception e) when (e is LineException or OperationCanceledException)
            {
                reports.Log(LogSeverity.Warning, $"nothing more is heard of the run ({e.Message}); its steps after are run now");
                return false;
            }
        }
    }

    private void End(StepsEnding ending, CancellationToken stopping)
    {
        using var within = new CancellationTokenSource();
        using var stop = stopping.Register(() => within.CancelAfter(EndsWithin));
        try
        {
            Ask(
                "end",
                new StepsEndRequest(reports.Last(within.Token), ending.Problem, ending.AfterSuccessProblem, ending.Down?.TotalSeconds),
                within.Token
            );
        }
        catch (Exception e) when (e is LineException or OperationCanceledException)
        {
            // The run is over; the agent's own log has it.
        }
    }

    internal static RunSteps StepsOf(StepsOrder order) =>
        new(
            [.. order.Before.Select(Step)],
            order.Until is { } until ? Step(until) : null,
            Within(order.PatienceSeconds),
            [.. order.AfterSuccess.Select(Step)],
            [.. order.AfterFailure.Select(Step)],
            [.. order.AlwaysAfter.Select(Step)]
        );

    internal static RunStep Step(StepWords s) => new(s.Name, [.. s.Command], s.As, Within(s.LimitSeconds));

    private static TimeSpan Within(double seconds) => TimeSpan.FromSeconds(Math.Clamp(seconds, 1, 86_400));

    private StepsReportAnswer Ask<TBody>(string what, TBody body, CancellationToken cancel, TimeSpan? most = null) =>
        Patiently.Ask(() => line.PostAsync<TBody, StepsReportAnswer>($"steps/{order.Token}/{what}", body, cancel), cancel, most);
}
