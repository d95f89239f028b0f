using System.CommandLine;
using System.Diagnostics;
using IronKeep.Cli.Client;
using IronKeep.Cli.Printing;
using IronKeep.Contracts;
using IronKeep.Core.Quantities;
using IronKeep.Core.Watching;

namespace IronKeep.Cli.Commands;

/// <summary>Follows a run to its end and reports it.</summary>
internal static class Watching
{
    /// <summary>Between two tries to reach a service that went away while its run was followed.</summary>
    private static readonly TimeSpan Pause = TimeSpan.FromSeconds(2);

    /// <summary>How long a service that went away is asked again before a script that waits is told.</summary>
    private static readonly TimeSpan Patience = TimeSpan.FromMinutes(15);

    /// <summary>Whether who began a run stays until it has ended.</summary>
    public static Option<bool> NoWait { get; } = new("--no-wait") { Description = "Return at once; else stay, and end as the run ends" };

    /// <summary>A run was begun: stays with it, unless asked not to, and says how to follow it.</summary>
    public static Task<int> BegunAsync(ParseResult parsed, KeepClient client, RunAnswer run, CancellationToken cancel)
    {
        var asJson = Common.AsJson(parsed);
        if (!parsed.GetValue(NoWait))
            return FollowAsync(client, run.Id, asJson, cancel);
        if (asJson)
            Show.Json(run);
        else
            Show.Line(
                $"Queued as run {run.Id} ({run.Kind.Word()} of {run.Job ?? run.Store}); follow it with 'ironkeep run watch {run.Id}'."
            );
        return Task.FromResult(Root.Done);
    }

    /// <summary>
    /// Stays with a run until it has ended, over restarts of the service. Whoever is stopped before that leaves the run at work.
    /// </summary>
    public static async Task<int> FollowAsync(KeepClient client, long id, bool asJson, CancellationToken cancel)
    {
        try
        {
            var run = await EndOfAsync(client, id, asJson, cancel);
            if (!asJson)
                Show.EndProgress();
            if (asJson)
                Show.Json(run);
            else
                await ReportAsync(client, run, cancel);
            return ExitOf(run);
        }
        catch (OperationCanceledException) when (cancel.IsCancellationRequested)
        {
            Show.EndProgress();
            Show.Error($"Run {id} goes on; follow it with 'ironkeep run watch {id}', or end it with 'ironkeep run cancel {id}'.");
            return Root.Failed;
        }
    }

    private static async Task<RunAnswer> EndOfAsync(KeepClient client, long id, bool asJson, CancellationToken cancel)
    {
        // Since when it is away: from the end of the last connection on which it said something.
        var (reached, away) = (false, Stopwatch.GetTimestamp());
        while (true)
        {
            var connected = false;
            try
            {
                // Listen first and look then, so that an end between the two is not lost.
                await foreach (var happened in client.EventsAsync(cancel))
                {
                    var run =
                        happened.Topic == Topic.Hello ? await client.GetAsync<RunAnswer>($"runs/{id}", cancel)
                        : happened.Run?.Id == id ? happened.Run
                        : null;
                    (reached, connected) = (true, true);
                    if (run?.State == RunState.Ended)
                        return await client.GetAsync<RunAnswer>($"runs/{id}", cancel);
                    if (run is not null && !asJson)
                        Show.Progress(Moving(run));
                }
            }
            catch (Exception e) when (reached && e is AnswerException { ExitCode: Root.Failed } or HttpRequestException or IOException)
            {
                // The service is being restarted, or the line is down: the run is asked after again.
            }
            if (connected)
                away = Stopwatch.GetTimestamp();
            if (Stopwatch.GetElapsedTime(away) > Patience)
                throw new AnswerException(
                    Root.Failed,
                    $"the service at {client.Address} has not answered for {Patience.TotalMinutes:0} minutes, so how run {id} ends "
                        + $"is not known; when it is back, see 'ironkeep run show {id}'"
                );
            if (!asJson)
                Show.Progress($"run {id}: the service at {client.Address} does not answer; asking again");
            await Task.Delay(Pause, cancel);
        }
    }

    /// <summary>The exit code for how a run ended; a check that found damage did what it was asked, and has findings.</summary>
    public static int ExitOf(RunAnswer run) =>
        run.Outcome switch
        {
            Outcome.Failed when run is { Kind: RunKind.Check, Failure: FailureClass.DataDamaged } => Root.Findings,
            Outcome.Ok or Outcome.NotNeeded => Root.Done,
            Outcome.Suspect when run.ConfirmedBy is not null => Root.Done,
            Outcome.Warned or Outcome.Suspect => Root.Findings,
            Outcome.Refused or Outcome.Cancelled or Outcome.HeldBack => Root.Refused,
            Outcome.Failed or Outcome.TimedOut or Outcome.Missed or _ => Root.Failed,
        };

    /// <summary>What a run took, read, stored, and how it ended; warnings and errors of its log are named.</summary>
    public static async Task ReportAsync(KeepClient client, RunAnswer run, CancellationToken cancel)
    {
        var f = run.Figures;
        Show.Line($"Run {run.Id}  {run.Kind.Word()} {run.Job ?? run.Store}  {Show.Stands(run).ToUpperInvariant()}");
        Show.Line($"  {run.Sentence}");
        if (run.Remedy is not null)
            Show.Line($"  what to do: {run.Remedy}");
        if (run.Kind == RunKind.Backup)
        {
            Show.Line($"  taken    {Counted.Of(f.Items, "item")}, {Show.Size(f.SelectedBytes)}");
            Show.Line($"  read     {Show.Size(f.ReadBytes)}");
            Show.Line($"  new      {Show.Size(f.NewBytes)}");
            Show.Line($"  stored   {Show.Size(f.StoredBytes)}");
            Show.Line($"  skipped  {f.Skipped}");
        }
        Show.Line(
            $"  began    {Show.When(run.Began)}, ended {Show.When(run.Ended)}, took "
                + $"{Show.Took(f.ElapsedSeconds)}{(f.BytesPerSecond is { } rate and > 0 ? $", {Show.Size((long)rate)}/s" : "")}"
        );
        if (run.ConfirmedBy is not null)
            Show.Line($"  confirmed by {run.ConfirmedBy} {Show.When(run.ConfirmedAt)}");
        if (run.State != RunState.Ended)
            return;
        if (run.Kind == RunKind.Backup && (await client.GetAsync<PreviousRunAnswer>($"runs/{run.Id}/previous", cancel)).Run is { } before)
        {
            var b = before.Figures;
            Show.Line(
                $"  before   run {before.Id}: {Counted.Of(b.Items, "item")} ({Change(f.Items, b.Items)}), {Show.Size(b.SelectedBytes)} "
                    + $"taken "
                    + $"({Change(f.SelectedBytes, b.SelectedBytes)}), {Show.Size(b.StoredBytes)} stored, {Show.Took(b.ElapsedSeconds)}"
            );
        }
        var log = await client.GetAsync<RunLogAnswer>($"runs/{run.Id}/log?severity=warning", cancel);
        foreach (var line in log.Lines.Where(l => l.Text != run.Sentence).Take(20))
            Show.Line($"  {line.Severity}: {line.Text}");
    }

    private static string Change(long now, long before) =>
        now == before ? "the same"
        : before == 0 ? "new"
        : string.Create(System.Globalization.CultureInfo.InvariantCulture, $"{(now - before) * 100.0 / before:+0.#;-0.#} %");

    private static string Moving(RunAnswer run)
    {
        var f = run.Figures;
        if (run.State == RunState.Queued)
            return $"run {run.Id} waits for its turn";
        var share = f.ExpectedBytes is > 0 ? $" of about {Show.Size(f.ExpectedBytes)}" : "";
        return $"run {run.Id}  {Counted.Of(f.Items, "item")}, {Show.Size(f.SelectedBytes)}{share}, read {Show.Size(f.ReadBytes)}, stored "
            + $"{Show.Size(f.StoredBytes)}, "
            + $"{Show.Took(f.ElapsedSeconds)}{(f.RemainingSeconds is { } left ? $", {Show.Took(left)} to go" : "")}";
    }
}
