using System.Collections.Concurrent;
using IronKeep.Agent.Hearing;
using IronKeep.Contracts;
using IronKeep.Runs.Steps;
using IronKeep.Runs.Surroundings;

namespace IronKeep.Agent;

/// <summary>
/// The agent at work: it stays in contact with the service, and says once when that changes. A service that is away is tried again with
/// growing pauses, which differ from machine to machine, so that not all come at once when it is back.
/// </summary>
internal sealed class Work
{
    private static readonly TimeSpan FirstPause = TimeSpan.FromSeconds(2),
        LongestPause = TimeSpan.FromMinutes(1),
        RefusedPause = TimeSpan.FromMinutes(15),
        NotedEvery = TimeSpan.FromMinutes(1);
    private readonly AgentHome home;
    private readonly ServiceLine line;
    private readonly TextWriter log;
    private readonly AllowedFile allowed;
    private readonly LocalCopies copies;
    private readonly Journal journal;
    private readonly Alone alone;
    private readonly StepRunner runner;
    private readonly OwedSteps notes;
    private readonly ServiceWatch watch;
    private readonly HearingHere hearing;
    private Contact known = new(null, null, null, null);
    private DateTimeOffset noted;

    public Work(
        AgentHome home,
        ServiceLine line,
        AllowedFile allowed,
        MachineStanding standing,
        TimeSpan awayFor,
        string dropFolder,
        TextWriter log
    )
    {
        (this.home, this.line, this.log, this.allowed) = (home, line, log, allowed);
        runner = new StepRunner(allowed.Read, allowed.Path);
        notes = new OwedSteps(home.OwedFolder);
        copies = new LocalCopies(runner, allowed);
        journal = new Journal(home.JournalFolder, log);
        alone = new Alone(journal, copies, runner, notes, standing, awayFor, log);
        watch = new ServiceWatch(runner, notes, Path.Combine(home.Folder, "service-starts.json"), TimeProvider.System, log.WriteLine);
        var reports = new HeardReports(home.HeardFolder, log);
        hearing = new HearingHere(
            home,
            line,
            reports,
            new HeardLogs(reports, home.LogPlacesFolder, log),
            new DropFolder(dropFolder, reports, allowed.Read, log),
            log
        );
    }

    public async Task RunAsync(CancellationToken cancel)
    {
        known = home.Contact() ?? known;
        var owed = new OwedWork(line, runner, notes, log);
        journal.EndInterrupted();
        alone.Take(home.Standing());
        line.Standing = home.Standing()?.Mark;
        watch.Keep((home.KeptServices() ?? []).Select(Kept));
        line.Services = () => watch.Now;
        hearing.Begin();
        // What an interrupted run stopped is started before anything else, whether or not the service is there.
        var paid = owed.PayAsync();
        var watching = WatchAsync(paid, cancel);
        var onOurOwn = AloneAsync(paid, cancel);
        var heard = hearing.RunAsync(cancel);
        var saying = paid.ContinueWith(_ => owed.SayAsync(cancel), TaskScheduler.Default).Unwrap();
        for (var tries = 0; !cancel.IsCancellationRequested; )
        {
            TimeSpan pause;
            try
            {
                // Before the service hears of us, so that it begins nothing that was done.
                await TellJournalAsync(cancel);
                var answer = await line.OrdersAsync(cancel);
                tries = 0;
                // The service answers when there is something to do, or after some seconds; and at once when it told of something anew,
                // which it does again while that cannot be kept here.
                pause = answer.Standing is null && answer.Hears is null ? TimeSpan.Zero : TimeSpan.FromSeconds(1);
                await SayAsync(null, $"in contact with the service on {answer.Agent.Service}, as machine {answer.Agent.Machine}");
                KeepUp(answer.KeepsUp ?? []);
                Stand(answer.Standing);
                hearing.Take(answer.Hears);
                known = new Contact(DateTimeOffset.UtcNow, answer.Agent.RightUntil, null, null, Known(answer.Next));
                foreach (var order in answer.Orders)
                    Begin(order.Token, $"run {order.Run}, a copy of {order.Job}", () =>
                        AfterOurOwnAsync(
                            order.Job,
                            () => new CopyWork(line, Path.Combine(home.Folder, "sent"), runner, copies, order).DoAsync(cancel),
                            cancel
                        )
                    );
                foreach (var order in answer.Places ?? [])
                    Begin(order.Token, $"answering for store {order.Store} in {order.Folder}", () =>
                        new PlaceWork(line, allowed.Read, allowed.Path, order).DoAsync(cancel)
                    );
                foreach (var order in answer.Restores ?? [])
                    Begin(order.Token, $"run {order.Run}, giving back copy {order.CopyId}", () =>
                        new RestoreWork(line, home.Folder, order).DoAsync(cancel)
                    );
                foreach (var order in answer.Steps ?? [])
                    Begin(order.Token, $"run {order.Run}, steps of {order.Job}", () =>
                        new StepsWork(line, runner, notes, paid, order).DoAsync(cancel)
                    );
                // An order is named until its agent has begun it.
                if (answer.Orders.Count + (answer.Restores?.Count ?? 0) + (answer.Steps?.Count ?? 0) + (answer.Places?.Count ?? 0) > 0)
                    pause = TimeSpan.FromMilliseconds(200);
            }
            catch (LineException e)
            {
                await SayAsync(e.Message, e.Message);
                pause = e.Fault == LineFault.Away ? Longer(tries++) : RefusedPause;
                known = known with { Problem = e.Message, ProblemSince = known.ProblemSince ?? DateTimeOffset.UtcNow };
            }
            catch (OperationCanceledException)
            {
                break;
            }
            Note();
            await Task.Delay(pause, cancel).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        }
        await Task.WhenAll([.. working.Values, saying, watching, onOurOwn, heard]);
    }

    /// <summary>Services are kept up whether or not the service is there; begins when what earlier runs owe was done.</summary>
    private async Task WatchAsync(Task paid, CancellationToken cancel)
    {
        await paid.WaitAsync(cancel).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        await watch.RunAsync(cancel);
    }

    private async Task AloneAsync(Task paid, CancellationToken cancel)
    {
        await paid.WaitAsync(cancel).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        await alone.RunAsync(() => known, cancel);
    }

    /// <summary>Does something of a job when what we do of it on our own has ended.</summary>
    private async Task<string> AfterOurOwnAsync(string job, Func<Task<string>> work, CancellationToken cancel)
    {
        while (alone.AtWork == job && !cancel.IsCancellationRequested)
            await Task.Delay(200, CancellationToken.None);
        return await work();
    }

    private string trouble = "";

    /// <summary>A disk that takes nothing keeps us from no contact; what was told then is told again, which changes nothing.</summary>
    private async Task TellJournalAsync(CancellationToken cancel)
    {
        try
        {
            await journal.SayAsync(line, InContact, cancel);
            trouble = "";
        }
        catch (Exception e) when (e is AgentException or IOException or UnauthorizedAccessException)
        {
            if (trouble != e.Message)
                await log.WriteLineAsync($"What this machine did on its own stays in {home.JournalFolder}: {e.Message}");
            trouble = e.Message;
        }
    }

    /// <summary>From here on what was due is the service's matter; on the disk when this returns.</summary>
    private void InContact()
    {
        known = known with { At = DateTimeOffset.UtcNow };
        home.Save(known);
    }

    /// <summary>What we do on our own is remembered before the service is told that we know it.</summary>
    private void Stand(StandingOrders? orders)
    {
        if (orders is null)
            return;
        try
        {
            home.Save(orders);
        }
        catch (AgentException e)
        {
            log.WriteLine(e.Message);
            return;
        }
        alone.Take(orders);
        line.Standing = orders.Mark;
    }

    private string keeps = "";

    /// <summary>What is to be kept up is remembered for a start without the service.</summary>
    private void KeepUp(IReadOnlyList<KeptServiceWords> words)
    {
        var written = AgentJson.Write(words);
        if (written == keeps)
            return;
        watch.Keep(words.Take(MostNext).Select(Kept));
        try
        {
            home.Save(words);
            keeps = written;
        }
        catch (AgentException e)
        {
            log.WriteLine(e.Message);
        }
    }

    private static KeptService Kept(KeptServiceWords w) =>
        new(
            w.Job,
            StepsWork.Step(w.Up),
            StepsWork.Step(w.Start),
            Math.Clamp(w.Times, 1, 100),
            TimeSpan.FromSeconds(Math.Clamp(w.WithinSeconds, 60, 7 * 86_400))
        );

    private readonly ConcurrentDictionary<string, Task> working = new();
    private readonly ConcurrentDictionary<string, Doing> doing = new();

    private void Begin(string token, string what, Func<Task<string>> work)
    {
        if (!working.TryAdd(token, Task.CompletedTask))
            return;
        doing[token] = new Doing(what, DateTimeOffset.UtcNow);
        noted = default;
        working[token] = Task.Run(() => CarryOutAsync(token, work), CancellationToken.None);
    }

    private async Task CarryOutAsync(string token, Func<Task<string>> work)
    {
        try
        {
            await log.WriteLineAsync(Core.Quantities.Sentence.Begin(await work()));
        }
        catch (Exception e)
        {
            await log.WriteLineAsync($"An order failed in a way that nobody foresaw: {e}");
        }
        finally
        {
            doing.TryRemove(token, out _);
            noted = default;
            // Its token is not named again once it was begun.
            _ = Task.Delay(TimeSpan.FromMinutes(1), CancellationToken.None)
                .ContinueWith(_ => working.Remove(token, out Task? _), TaskScheduler.Default);
        }
    }

    /// <summary>What the service says of due times is kept as far as it would be shown.</summary>
    private static IReadOnlyList<NextDue>? Known(IReadOnlyList<NextDue>? next) => next is null ? null : [.. next.Take(MostNext)];

    private const int MostNext = 200;
    private bool said;

    private async Task SayAsync(string? problem, string sentence)
    {
        if (said && known.Problem == problem)
            return;
        said = true;
        noted = default;
        await log.WriteLineAsync(Core.Quantities.Sentence.Begin(sentence));
    }

    /// <summary>What is known goes to the disk when it changed, and now and then.</summary>
    private void Note()
    {
        var now = DateTimeOffset.UtcNow;
        if (now >= noted && now - noted < NotedEvery)
            return;
        noted = now;
        try
        {
            home.Save(known with { Doing = [.. doing.Values.OrderBy(d => d.Since)] });
        }
        catch (AgentException e)
        {
            // Contact matters more than the note of it.
            log.WriteLine(e.Message);
        }
    }

    private static TimeSpan Longer(int tries)
    {
        var longest = Math.Min(LongestPause.TotalSeconds, FirstPause.TotalSeconds * Math.Pow(2, Math.Min(tries, 10)));
        return TimeSpan.FromSeconds(longest * (0.5 + Random.Shared.NextDouble() / 2));
    }
}
