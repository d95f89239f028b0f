using IronKeep.Cli.Client;
using IronKeep.Cli.Printing;
using IronKeep.Contracts;
using IronKeep.Core.Quantities;
using IronKeep.Core.Watching;

namespace IronKeep.Cli.Commands;

/// <summary>Follows a run to its end and reports it.</summary>
internal static class Watching
{
    public static async Task<int> FollowAsync(KeepClient client, long id, bool asJson, CancellationToken cancel)
    {
        using var stop = CancellationTokenSource.CreateLinkedTokenSource(cancel);
        RunAnswer? run = null;
        // Listen first and look then, so that an end between the two is not lost.
        await foreach (var happened in client.EventsAsync(stop.Token))
        {
            if (happened.Topic == Topic.Hello)
                run = await client.GetAsync<RunAnswer>($"runs/{id}", cancel);
            else if (happened.Run?.Id == id)
                run = happened.Run;
            else
                continue;
            if (run.State == RunState.Ended)
                break;
            if (!asJson)
                Show.Progress(Moving(run));
        }
        run = await client.GetAsync<RunAnswer>($"runs/{id}", cancel);
        if (!asJson)
            Show.EndProgress();
        if (asJson)
            Show.Json(run);
        else
            await ReportAsync(client, run, cancel);
        return ExitOf(run);
    }

    public static int ExitOf(RunAnswer run) =>
        run.Outcome switch
        {
            Outcome.Ok or Outcome.NotNeeded => Root.Done,
            Outcome.Suspect when run.ConfirmedBy is not null => Root.Done,
            Outcome.Warned or Outcome.Suspect => Root.Findings,
            Outcome.Refused or Outcome.Cancelled or Outcome.HeldBack => Root.Refused,
            null => Root.Done,
            Outcome.Failed or Outcome.TimedOut or Outcome.Missed or _ => Root.Failed,
        };

    /// <summary>What a run took, read, stored, and how it ended; warnings and errors of its log are named.</summary>
    public static async Task ReportAsync(KeepClient client, RunAnswer run, CancellationToken cancel)
    {
        var f = run.Figures;
        Show.Line($"run {run.Id}  {run.Kind.Word()} {run.Job ?? run.Store}  {Show.Stands(run).ToUpperInvariant()}");
        Show.Line($"  {run.Sentence}");
        if (run.Remedy is not null)
            Show.Line($"  what to do: {run.Remedy}");
        if (run.Kind == RunKind.Backup)
        {
            Show.Line($"  taken    {f.Items} items, {Show.Size(f.SelectedBytes)}");
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
                $"  before   run {before.Id}: {b.Items} items ({Change(f.Items, b.Items)}), {Show.Size(b.SelectedBytes)} taken "
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
        return $"run {run.Id}  {f.Items} items, {Show.Size(f.SelectedBytes)}{share}, read {Show.Size(f.ReadBytes)}, stored "
            + $"{Show.Size(f.StoredBytes)}, "
            + $"{Show.Took(f.ElapsedSeconds)}{(f.RemainingSeconds is { } left ? $", {Show.Took(left)} to go" : "")}";
    }
}
