using IronKeep.Core.Watching;
using IronKeep.Runs;
using IronKeep.Runs.Steps;
using IronKeep.Service.Backups;
using IronKeep.Service.Runs;

namespace IronKeep.Service.Tests;

/// <summary>What becomes of a run between steps, whoever fails, hangs or is cancelled: the steps after are run once, always.</summary>
public sealed class AroundCopiesTests
{
    private sealed class Steps(Exception? before = null, string? problem = null, string? afterSuccess = null) : IStepsOfRun
    {
        public List<bool> After { get; } = [];

        public Task BeforeAsync(CancellationToken cancel) => before is null ? Task.CompletedTask : Task.FromException(before);

        public Task<StepsEnding> AfterAsync(bool success)
        {
            After.Add(success);
            return Task.FromResult(new StepsEnding(problem, success ? afterSuccess : null, TimeSpan.FromSeconds(42)));
        }
    }

    private static readonly RunEnding Ok = new(Outcome.Ok, "copy c1") { CopyIds = ["c1"] };

    private static Task<RunEnding> RunAsync(Steps steps, Func<Task<RunEnding>> copy, CancellationToken cancel = default) =>
        AroundCopies.RunAsync(steps, (_, _) => { }, copy, cancel, TimeSpan.FromMilliseconds(100));

    [Fact]
    public async Task The_outcome_is_that_of_the_copies_and_of_the_steps_after()
    {
        var ended = await RunAsync(new Steps(), () => Task.FromResult(Ok));
        Assert.Equal((Outcome.Ok, "Copy c1; down for 42 s"), (ended.Outcome, ended.Sentence));
        var stuck = await RunAsync(new Steps(problem: "step start failed"), () => Task.FromResult(Ok));
        Assert.Equal((Outcome.Failed, FailureClass.HookFailed), (stuck.Outcome, stuck.Failure!.Value));
        Assert.Equal("c1", Assert.Single(stuck.CopyIds));
        var untidy = await RunAsync(new Steps(afterSuccess: "step tidy failed"), () => Task.FromResult(Ok));
        Assert.Equal(Outcome.Warned, untidy.Outcome);
        foreach (
            var (outcome, success) in new[]
            {
                (Outcome.Suspect, true),
                (Outcome.Warned, true),
                (Outcome.Failed, false),
                (Outcome.Refused, false),
            }
        )
        {
            var steps = new Steps();
            Assert.Equal(outcome, (await RunAsync(steps, () => Task.FromResult(Ok with { Outcome = outcome }))).Outcome);
            Assert.Equal([success], steps.After);
        }
    }

    [Fact]
    public async Task Whoever_throws_the_steps_after_are_run_once_and_the_cause_is_said()
    {
        var before = new Steps(before: new RunFailedException(FailureClass.HookFailed, "stop failed"));
        var copied = false;
        var failed = await Assert.ThrowsAsync<RunFailedException>(() =>
            RunAsync(before, () => Task.FromResult(Ok with { Sentence = (copied = true).ToString() }))
        );
        Assert.Equal(("stop failed", false), (failed.Message, copied));
        Assert.Equal([false], before.After);

        var both = new Steps(problem: "step start failed");
        failed = await Assert.ThrowsAsync<RunFailedException>(() =>
            RunAsync(both, () => throw new RunFailedException(FailureClass.SourceUnreadable, "no such folder"))
        );
        Assert.Equal((FailureClass.HookFailed, "step start failed; before that: no such folder"), (failed.Class, failed.Message));
        Assert.Equal([false], both.After);
    }

    [Fact]
    public async Task Copies_that_hang_keep_nothing_down_once_the_run_was_ended()
    {
        using var cancel = new CancellationTokenSource();
        var (steps, hanging) = (new Steps(), new TaskCompletionSource<RunEnding>());
        var run = RunAsync(steps, () => hanging.Task, cancel.Token);
        Assert.Empty(steps.After);
        await cancel.CancelAsync();
        while (steps.After.Count == 0)
            await Task.Delay(10);
        Assert.False(run.IsCompleted);
        // It ends after all: nothing is run twice, and a copy that came so late is not said to be ok.
        hanging.SetResult(Ok);
        await Assert.ThrowsAnyAsync<OperationCanceledException>(() => run);
        Assert.Equal([false], steps.After);
    }
}
