using IronKeep.Contracts;

namespace IronKeep.Agent.Hearing;

/// <summary>
/// Hears of watched jobs on this machine, with or without the service: by their logs, and by what their wrapped commands leave. What was
/// heard is told in its order, and kept until it is.
/// </summary>
internal sealed class HearingHere(AgentHome home, ServiceLine line, HeardReports reports, HeardLogs logs, DropFolder drop, TextWriter log)
{
    private static readonly TimeSpan LooksEvery = TimeSpan.FromSeconds(1),
        LongestPause = TimeSpan.FromMinutes(1);
    private DateTimeOffset notBefore;
    private int tries;
    private string trouble = "";

    /// <summary>What was to be heard when the agent was at work last.</summary>
    public void Begin() => Use(home.Heard());

    /// <summary>What is to be heard from now on; remembered before the service is told that we know it.</summary>
    public void Take(HeardJobs? jobs)
    {
        if (jobs is null)
            return;
        try
        {
            home.Save(jobs);
        }
        catch (AgentException e)
        {
            log.WriteLine(e.Message);
            return;
        }
        Use(jobs);
    }

    private void Use(HeardJobs? jobs)
    {
        logs.Take(jobs);
        if (jobs is not null)
            drop.Write(jobs.Jobs);
        line.Hears = jobs?.Mark;
    }

    /// <summary>Until cancelled.</summary>
    public async Task RunAsync(CancellationToken cancel)
    {
        while (!cancel.IsCancellationRequested)
        {
            try
            {
                await logs.LookAsync(cancel);
                await Task.Run(drop.Look, CancellationToken.None);
                if (DateTimeOffset.UtcNow >= notBefore)
                    await SayAsync(cancel);
                trouble = "";
            }
            catch (Exception e) when (e is IOException or UnauthorizedAccessException)
            {
                if (trouble != e.Message)
                    await log.WriteLineAsync($"What is heard of watched jobs here cannot be kept: {e.Message}");
                trouble = e.Message;
            }
            catch (OperationCanceledException)
            {
                break;
            }
            await Task.Delay(LooksEvery, cancel).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        }
        logs.End();
    }

    private async Task SayAsync(CancellationToken cancel)
    {
        var problems = logs.Problems();
        try
        {
            await reports.SayAsync(line, problems, cancel);
            logs.Told(problems);
            tries = 0;
        }
        catch (LineException)
        {
            // Whoever keeps the contact says why.
            var pause = Math.Min(LongestPause.TotalSeconds, Math.Pow(2, Math.Min(++tries, 10)));
            notBefore = DateTimeOffset.UtcNow.AddSeconds(pause * (0.5 + Random.Shared.NextDouble() / 2));
        }
    }
}
