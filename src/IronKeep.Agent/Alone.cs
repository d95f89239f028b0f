using System.Diagnostics;
using IronKeep.Contracts;
using IronKeep.Core.Machines;
using IronKeep.Core.Watching;
using IronKeep.Runs;
using IronKeep.Runs.Backups;
using IronKeep.Runs.Steps;
using IronKeep.Runs.Surroundings;
using IronKeep.Stores.Pooled;

namespace IronKeep.Agent;

/// <summary>
/// Carries jobs out while the service is away: those that go into stores on this machine's own disks alone, at the times that the service
/// named before. What was due while the service was in contact is its matter. Source: docs/semantics.md, section 2 (Planned runs, lateness,
/// catch-up).
/// </summary>
internal sealed class Alone(
    Journal journal,
    LocalCopies copies,
    StepRunner runner,
    OwedSteps notes,
    MachineStanding standing,
    TimeSpan awayFor,
    TextWriter log
)
{
    private static readonly TimeSpan LooksEvery = TimeSpan.FromSeconds(5);
    private const int MostLines = 500,
        MostText = 2000,
        MostLetters = 100_000;
    private volatile IReadOnlyList<StandingOrder> orders = [];
    private volatile string? atWork;

    /// <summary>The job that is being carried out, and is not to be begun beside that; null: none.</summary>
    public string? AtWork => atWork;

    /// <summary>What is to be done from now on.</summary>
    public void Take(StandingOrders? given) => orders = given?.Orders ?? [];

    /// <summary>Looks for what is due until cancelled.</summary>
    public async Task RunAsync(Func<Contact> contact, CancellationToken cancel)
    {
        while (!cancel.IsCancellationRequested)
        {
            try
            {
                if (Due(contact(), DateTimeOffset.UtcNow) is var (order, due) && order is not null)
                    await CarryOutAsync(order, due, cancel);
            }
            catch (Exception e) when (e is IOException or UnauthorizedAccessException)
            {
                await log.WriteLineAsync($"Nothing is done on this machine's own: its journal cannot be written ({e.Message})");
            }
            await Task.Delay(LooksEvery, cancel).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        }
    }

    /// <summary>The order that is to be carried out now and its due instant; null: none.</summary>
    private (StandingOrder? Order, DateTimeOffset Due) Due(Contact contact, DateTimeOffset now)
    {
        var all = orders;
        if (contact is not { Problem: not null, ProblemSince: { } since } || now - since < awayFor || all.Count == 0)
            return default;
        var done = journal.All().Select(e => (e.Job, e.Due)).ToHashSet();
        return OnItsOwn.Next(all.Select(Job), done, contact.At, standing.Now, now) is var (job, due)
            ? (all.First(o => o.Job == job), due)
            : default;
    }

    private static OwnJob Job(StandingOrder order) =>
        new(
            order.Job,
            order.Dues,
            TimeSpan.FromSeconds(Math.Clamp(order.StartSeconds, 0, 1e9)),
            TimeSpan.FromSeconds(Math.Clamp(order.WaitSeconds, 0, 1e9)),
            // A need that this agent does not know is one that it cannot see given.
            [.. order.Needs.Select(n => MachineNeed.Read(n).Need ?? MachineNeed.Unknown(n))]
        );

    private async Task CarryOutAsync(StandingOrder order, DateTimeOffset due, CancellationToken cancel)
    {
        var (lines, figures, made) = (new List<CopyLine>(), new RunFigures(), new List<CopyThere>());
        var letters = 0;
        void Note(LogSeverity severity, string text)
        {
            lock (lines)
                if (lines.Count < MostLines && (letters += Math.Min(text.Length, MostText)) <= MostLetters)
                    lines.Add(new CopyLine(severity, text.Length > MostText ? text[..MostText] + "…" : text));
        }
        var took = Stopwatch.StartNew();
        var entry = new JournalEntry(
            Guid.NewGuid().ToString("n"),
            order.Job,
            due,
            DateTimeOffset.UtcNow,
            null,
            0,
            Outcome.Failed,
            FailureClass.Interrupted,
            "it was begun",
            [],
            CopyWork.Said(figures),
            []
        );
        journal.Note(entry);
        atWork = order.Job;
        await log.WriteLineAsync(
            $"The service is away: {order.Job}, due {due:yyyy-MM-dd HH:mm:ss'Z'}, is carried out on this machine's own"
        );
        var (outcome, failure, sentence) = (Outcome.Failed, (FailureClass?)FailureClass.Unknown, "");
        try
        {
            (outcome, failure, sentence) = await AroundAsync(order, Note, f => figures = f, made, cancel);
        }
        catch (OperationCanceledException)
        {
            (failure, sentence) = (FailureClass.Interrupted, "interrupted: the agent was stopped in the middle of it");
        }
        catch (Exception e)
        {
            (failure, sentence) = Ordered.Failure(e) is { } known
                ? (known.Class, known.Message)
                : (FailureClass.Unknown, $"failed for a reason nobody foresaw: {e.Message}");
        }
        finally
        {
            atWork = null;
        }
        lock (lines)
            entry = entry with
            {
                Ended = DateTimeOffset.UtcNow,
                Seconds = took.Elapsed.TotalSeconds,
                Outcome = outcome,
                Failure = failure,
                Sentence = sentence,
                Copies = [.. made],
                Figures = CopyWork.Said(figures),
                Lines = [.. lines],
            };
        journal.Note(entry);
        await log.WriteLineAsync($"{order.Job} on this machine's own: {sentence}");
    }

    private async Task<(Outcome, FailureClass?, string)> AroundAsync(
        StandingOrder order,
        RunLog note,
        Action<RunFigures> begun,
        List<CopyThere> made,
        CancellationToken cancel
    )
    {
        if (order.Steps is not { } said)
            return await CopyAsync(order, note, begun, made, cancel);
        // No run of the service has such a number.
        var run = -DateTimeOffset.UtcNow.ToUnixTimeMilliseconds();
        var around = new StepsAround(new OwedRun(run, order.Job, DateTimeOffset.UtcNow, StepsWork.StepsOf(said)), runner, notes, note);
        (Outcome Outcome, FailureClass? Failure, string Sentence) ended = (Outcome.Failed, FailureClass.Unknown, "");
        try
        {
            await around.BeforeAsync(cancel);
            ended = await CopyAsync(order, note, begun, made, cancel);
        }
        catch (Exception e) when (Ordered.Failure(e) is { } known)
        {
            ended = (Outcome.Failed, known.Class, known.Message);
        }
        catch (OperationCanceledException)
        {
            ended = (Outcome.Failed, FailureClass.Interrupted, "interrupted: the agent was stopped in the middle of it");
        }
        finally
        {
            var after = await around.AfterAsync(ended.Outcome != Outcome.Failed);
            if (after.Problem is { } problem)
                ended = (
                    Outcome.Failed,
                    ended.Outcome == Outcome.Failed ? ended.Failure : FailureClass.HookFailed,
                    Joined(problem, ended.Sentence)
                );
            else if (after.AfterSuccessProblem is { } untidy)
                ended = (Outcome.Warned, null, Joined(untidy, ended.Sentence));
        }
        return ended;
    }

    private static string Joined(string first, string then) => then.Length == 0 ? first : $"{first}; {then}";

    private async Task<(Outcome, FailureClass?, string)> CopyAsync(
        StandingOrder order,
        RunLog note,
        Action<RunFigures> begun,
        List<CopyThere> made,
        CancellationToken cancel
    )
    {
        var (words, skipped, failure) = (new List<string>(), false, (FailureClass?)null);
        foreach (var into in order.Copies)
        {
            try
            {
                var figures = new RunFigures();
                var record = await copies.MakeAsync(into, CopyIds.New(DateTimeOffset.UtcNow), note, f => begun(figures = f), cancel);
                made.Add(new CopyThere(into.Store, record.Id));
                skipped |= figures.Skipped > 0;
                words.Add($"copy {record.Id} in store {into.Store}");
            }
            catch (Exception e) when (Ordered.Failure(e) is { } known)
            {
                // A store that fails does not keep the others from theirs.
                note(LogSeverity.Error, $"store {into.Store}: {known.Message}");
                failure ??= known.Class;
                words.Add($"store {into.Store}: {known.Message}");
            }
        }
        return (
            failure is not null ? Outcome.Failed
            : skipped ? Outcome.Warned
            : Outcome.Ok,
            failure,
            string.Join("; ", words)
        );
    }
}
