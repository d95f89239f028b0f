using System.Diagnostics;
using System.Globalization;
using IronKeep.Core.Watching;

namespace IronKeep.Runs.Steps;

/// <summary>
/// How the steps after a run went: what is wrong with those that run in any case, with those after success, and how long what the steps
/// before stopped was down (null: there were none).
/// </summary>
public sealed record StepsEnding(string? Problem, string? AfterSuccessProblem, TimeSpan? Down);

/// <summary>
/// The steps of one run, on its machine. What is to be run after it is on the disk before the first one begins, and stays there until it
/// was done. Source: docs/semantics.md, section 2 (Planned runs, lateness, catch-up).
/// </summary>
public sealed class StepsAround(OwedRun owed, StepRunner runner, OwedSteps notes, RunLog log)
{
    private static readonly TimeSpan AsksEvery = TimeSpan.FromSeconds(1);
    private Stopwatch? down;

    /// <summary>
    /// Runs the steps before, and asks until what they did took hold. A step that fails is a <see cref="RunFailedException"/>; the steps
    /// after are owed all the same.
    /// </summary>
    public async Task BeforeAsync(CancellationToken cancel)
    {
        try
        {
            await notes.NoteAsync(owed, cancel);
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            throw new RunFailedException(
                FailureClass.HookFailed,
                $"no step is begun: what is to be run after it cannot be noted on the disk ({e.Message})",
                e
            );
        }
        foreach (var step in owed.Steps.Before)
        {
            down ??= Stopwatch.StartNew();
            if (await RunAsync(step, null, cancel) is { } problem)
                throw new RunFailedException(FailureClass.HookFailed, $"step {step.Name} before the copy {problem}");
        }
        if (owed.Steps.Until is not { } until)
            return;
        for (var asked = Stopwatch.StartNew(); ; await Task.Delay(AsksEvery, cancel))
        {
            if (await RunAsync(until, null, cancel) is not { } problem)
                return;
            if (asked.Elapsed >= owed.Steps.Patience)
                throw new RunFailedException(
                    FailureClass.HookFailed,
                    $"step {until.Name} did not say within {owed.Steps.Patience.TotalSeconds:0} s that the steps before took hold: it "
                        + problem
                );
        }
    }

    /// <summary>Runs the steps after, each whatever became of those before it. Nobody cancels them: each has its own limit.</summary>
    public async Task<StepsEnding> AfterAsync(bool success)
    {
        var chosen = success ? owed.Steps.AfterSuccess : owed.Steps.AfterFailure;
        var first = await AllAsync(chosen, success);
        var always = await AllAsync(owed.Steps.AlwaysAfter, success);
        if (down is not null)
            log(LogSeverity.Info, $"what the steps before stopped was down for {down.Elapsed.TotalSeconds:0.0} s");
        try
        {
            notes.Done(owed.Run);
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            log(
                LogSeverity.Warning,
                $"the steps after will be run once more at the next start, for their note cannot be removed: {e.Message}"
            );
        }
        var problem = string.Join("; ", new[] { success ? null : first, always }.OfType<string>());
        return new StepsEnding(problem.Length > 0 ? problem : null, success ? first : null, down?.Elapsed);
    }

    private async Task<string?> AllAsync(IEnumerable<RunStep> steps, bool success)
    {
        var problems = new List<string>();
        foreach (var step in steps)
            if (await RunAsync(step, success ? "success" : "failure", CancellationToken.None) is { } problem)
            {
                problems.Add($"step {step.Name} after the copy {problem}");
                log(LogSeverity.Error, problems[^1]);
            }
        return problems.Count > 0 ? string.Join("; ", problems) : null;
    }

    private Task<string?> RunAsync(RunStep step, string? outcome, CancellationToken cancel)
    {
        log(LogSeverity.Info, $"step {step.Name}: {string.Join(' ', step.Command)}");
        var surroundings = new Dictionary<string, string>
        {
            ["IRONKEEP_JOB"] = owed.Job,
            ["IRONKEEP_RUN"] = owed.Run.ToString(CultureInfo.InvariantCulture),
        };
        if (outcome is not null)
            surroundings["IRONKEEP_COPIES"] = outcome;
        return runner.RunAsync(step, surroundings, log, cancel);
    }
}
