using IronKeep.Core.Quantities;
using IronKeep.Core.Watching;
using IronKeep.Runs;
using IronKeep.Runs.Steps;
using IronKeep.Service.Runs;

namespace IronKeep.Service.Backups;

/// <summary>Copies between steps. Source: docs/semantics.md, section 2 (Planned runs, lateness, catch-up).</summary>
internal static class AroundCopies
{
    /// <summary>How long copies that were ended may take to end, before the steps after are run beside them (real time).</summary>
    private static readonly TimeSpan EndsWithin = TimeSpan.FromSeconds(30);

    /// <summary>
    /// Runs the steps before, the copies, and the steps after, whatever became of the copies: one of those that fails makes the run fail,
    /// for what was stopped may be down still. Copies that hang keep nothing down once the run was ended.
    /// </summary>
    public static async Task<RunEnding> RunAsync(
        IStepsOfRun steps,
        RunLog log,
        Func<Task<RunEnding>> copy,
        CancellationToken cancel,
        TimeSpan? endsWithin = null
    )
    {
        var working = CopyAsync(steps, copy, cancel);
        if (!await EndsAsync(working, endsWithin ?? EndsWithin, cancel))
        {
            log(LogSeverity.Warning, "what is copied hangs although the run was ended; the steps after are run meanwhile");
            var meanwhile = (await steps.AfterAsync(success: false)).Problem;
            await ((Task)working).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
            throw meanwhile is null
                ? new OperationCanceledException(cancel)
                : new RunFailedException(FailureClass.HookFailed, $"{meanwhile}; before that the copies hung");
        }
        if (!working.IsCompletedSuccessfully)
        {
            if ((await steps.AfterAsync(success: false)).Problem is { } wrong)
                throw new RunFailedException(
                    FailureClass.HookFailed,
                    $"{wrong}; before that: {(working.IsCanceled ? "it was ended" : working.Exception!.InnerException!.Message)}",
                    working.Exception
                );
            return await working;
        }
        var ending = await working;
        return Judged(ending, await steps.AfterAsync(ending.Outcome is Outcome.Ok or Outcome.Warned or Outcome.Suspect));
    }

    private static async Task<RunEnding> CopyAsync(IStepsOfRun steps, Func<Task<RunEnding>> copy, CancellationToken cancel)
    {
        await steps.BeforeAsync(cancel);
        return await copy();
    }

    /// <summary>Whether the work ends: by itself, or soon after it was cancelled.</summary>
    private static async Task<bool> EndsAsync(Task working, TimeSpan endsWithin, CancellationToken cancel)
    {
        var cancelled = new TaskCompletionSource(TaskCreationOptions.RunContinuationsAsynchronously);
        await using var told = cancel.Register(cancelled.SetResult);
        if (await Task.WhenAny(working, cancelled.Task) == working)
            return true;
        return await Task.WhenAny(working, Task.Delay(endsWithin, CancellationToken.None)) == working;
    }

    private static RunEnding Judged(RunEnding ending, StepsEnding after)
    {
        if (after.Down is { } down)
            ending = ending with { Sentence = $"{ending.Sentence}; down for {down.TotalSeconds:0} s" };
        if (after.Problem is { } problem)
            return ending with
            {
                Outcome = Outcome.Failed,
                Failure = FailureClass.HookFailed,
                FailedStore = null,
                Sentence = Sentence.Begin($"{problem}. {ending.Sentence}"),
            };
        return after.AfterSuccessProblem is { } warning && ending.Outcome == Outcome.Ok
            ? ending with
            {
                Outcome = Outcome.Warned,
                Sentence = $"{ending.Sentence}; {warning}",
            }
            : ending;
    }
}
