using System.Collections.Immutable;
using System.Runtime.InteropServices;
using IronKeep.Core.Ceilings;
using IronKeep.Core.Charters;
using IronKeep.Core.Schedules;
using IronKeep.Core.Watching;
using NodaTime;

namespace IronKeep.Core.Forecasts;

/// <summary>
/// Plays a charter forward event by event: what becomes due waits for its turn under the ceilings, runs, leaves copies, and lets
/// old ones go. Order at one instant: ends of runs, reclaiming, the day's sample, then what becomes due.
/// </summary>
internal sealed class Player
{
    private enum What
    {
        End,
        Reclaim,
        Sample,
        Due,
        Begin,
    }

    private readonly record struct Event(What What, int Subject, Instant At);

    private readonly ForecastInput input;
    private readonly Charter charter;
    private readonly Instant end;
    private readonly PriorityQueue<Event, (long Ticks, int Order)> queue = new();
    private readonly RunCeilings ceilings;
    private readonly WaitingRuns waiting = new();
    private readonly JobPlay[] jobs;
    private readonly Dictionary<string, int> jobIndex = [];
    private readonly StorePlay[] stores;
    private readonly List<PlayedRun> runs = [];
    private readonly CopyPlay copies;
    private readonly ImmutableArray<LocalDate> dates;
    private readonly Instant[] samples;

    public Player(ForecastInput input)
    {
        charter = (input.Charter with { Own = input.OwnMachine }).Flat();
        this.input = input = input with { Charter = charter };
        end = input.AsOf + Duration.FromDays(input.Days);
        ceilings = RunCeilings.Of(charter, input.RunsAtOnce);
        // Where everything else is equal, what is more important and earlier in the alphabet becomes due first.
        jobs =
        [
            .. charter
                .Placed.All.OrderByDescending(charter.ImportanceOf)
                .ThenBy(j => j.Name, StringComparer.Ordinal)
                .Select((j, i) => new JobPlay(i, j, charter, input)),
        ];
        foreach (var job in jobs)
            jobIndex[job.Definition.Name] = job.Index;
        foreach (var job in jobs.Where(j => j.Definition.After is not null))
            jobs[jobIndex[job.Definition.After!]].Followers.Add(job.Index);
        stores = [.. charter.Stores.Values.Select(s => new StorePlay(s, charter, input))];
        var today = input.AsOf.InZone(charter.Zone).Date;
        dates = [.. Enumerable.Range(0, input.Days + 1).Select(today.PlusDays)];
        samples = [.. dates.Select(d => Instant.Min(charter.Zone.AtStartOfDay(d.PlusDays(1)).ToInstant(), end))];
        copies = new CopyPlay(input, jobs, stores);
    }

    public Notes Notes { get; } = new();

    /// <summary>The forecast without its findings.</summary>
    public Forecast Play()
    {
        RefuseTooLarge();
        foreach (var job in jobs.Where(j => j.Definition.After is null))
            NextDue(job);
        for (var s = 0; s < stores.Length; s++)
            NextReclaim(s);
        for (var i = 0; i < samples.Length; i++)
            Put(What.Sample, i, samples[i]);
        while (queue.TryDequeue(out var next, out _) && next.At <= end)
        {
            switch (next.What)
            {
                case What.End:
                    Ended(jobs[next.Subject]);
                    break;
                case What.Reclaim:
                    copies.Reclaim(next.Subject, next.At);
                    NextReclaim(next.Subject);
                    continue;
                case What.Sample:
                    copies.Sample(next.At, Notes);
                    continue;
                case What.Due:
                    BecameDue(jobs[next.Subject], next.At);
                    NextDue(jobs[next.Subject]);
                    break;
                case What.Begin:
                    CatchUp(jobs[next.Subject], next.At);
                    break;
            }
            // All that becomes due at one instant waits for its turn together.
            if (queue.TryPeek(out var more, out _) && more.At == next.At && more.What == What.Due)
                continue;
            StartReady(next.At);
        }
        foreach (var claim in waiting.All())
            Notes.Waited(jobs[jobIndex[claim.Job]].Definition, claim.Due, end, claim.Blocked, stillWaits: true);
        return new Forecast(input, dates)
        {
            Jobs = [.. jobs.Select(j => j.Definition.Name)],
            Ledgers = copies.Ledgers,
            Runs = Frozen(runs),
            Copies = copies.Lives(),
            Stores = [.. stores.Select(s => s.ToAnswer())],
            Rotations = [],
            Findings = [],
        };
    }

    public IEnumerable<JobPlay> JobPlays => jobs;

    public CopyPlay Copies => copies;

    public IEnumerable<StorePlay> StorePlays => stores;

    private static ImmutableArray<T> Frozen<T>(List<T> list) => ImmutableCollectionsMarshal.AsImmutableArray(list.ToArray());

    private void Put(What what, int subject, Instant at) =>
        queue.Enqueue(new Event(what, subject, at), (at.ToUnixTimeTicks(), ((int)what << 28) | subject));

    /// <summary>Counting due instants takes a moment; playing millions of runs only to refuse them takes most of a minute.</summary>
    private void RefuseTooLarge()
    {
        var room = ForecastInput.MostRuns;
        foreach (var times in jobs.Where(j => j.Definition.After is null).Select(j => j.Times).OfType<DueTimes>())
        {
            room -= times.Between(input.AsOf, end).Take(room + 1).Count();
            if (room < 0)
                throw new ForecastTooLargeException(input.Days);
        }
    }

    private void NextDue(JobPlay job)
    {
        if (job.NextDue(end) is not { } due)
            return;
        job.Dues++;
        // Followers are known only by playing.
        if (runs.Count > ForecastInput.MostRuns)
            throw new ForecastTooLargeException(input.Days);
        Put(What.Due, job.Index, due);
    }

    private void NextReclaim(int store)
    {
        if (stores[store].NextReclaim(end) is { } at)
            Put(What.Reclaim, store, at);
    }

    private void BecameDue(JobPlay job, Instant due)
    {
        if (input.Outage is { } outage && due >= outage.From && due < outage.To)
        {
            NotRun(job, due, PlayedOutcome.Missed);
            if (job.MissedSince is null && job.Definition is { CatchUp: Charters.CatchUp.Once, Watched: false })
            {
                // All that is missed collapses into one run after the return, unless the next one is near.
                job.MissedSince = due;
                var begins = outage.To + job.Definition.WaitAfterReturn.ToDuration();
                var next = job.Times!.Next(outage.To - Duration.Epsilon);
                if (next is null || next - outage.To >= job.Definition.CatchUpGap.ToDuration())
                    Put(What.Begin, job.Index, begins);
            }
            return;
        }
        if (job.Definition.Watched)
        {
            var elsewhere = new PlayedRun(job.Index, due, due, due + job.Takes(due), PlayedOutcome.Runs);
            runs.Add(elsewhere);
            if (job.Definition.Into.Length > 0)
                copies.Made(job, elsewhere, Notes);
            return;
        }
        Wait(job, due, due, PlayedOutcome.Runs);
    }

    private void CatchUp(JobPlay job, Instant at)
    {
        if (!job.IsBusy)
            Wait(job, job.MissedSince!.Value, at, PlayedOutcome.CatchUp);
    }

    private void Wait(JobPlay job, Instant due, Instant at, PlayedOutcome outcome)
    {
        if (job.IsBusy)
        {
            if (job.Definition.Overlap == Overlap.Wait && job.Pending is null)
                job.Pending = due;
            else
            {
                Notes.Overlapped(job.Definition, due);
                NotRun(job, due, PlayedOutcome.Overlaps);
            }
            return;
        }
        job.IsBusy = true;
        waiting.Add(new WaitingRun(job.ClaimFor(due), at, outcome));
    }

    private void StartReady(Instant now)
    {
        while (!ceilings.IsFull && waiting.TakeFirst(ceilings) is { } run)
        {
            var job = jobs[jobIndex[run.Claim.Job]];
            ceilings.Begin(run.Claim);
            var takes = job.Takes(now);
            if (job.Definition.RunLimit is { } limit && takes > limit.ToDuration())
                Notes.OutlastsLimit(job.Definition, now, takes);
            if (now > run.At)
                Notes.Waited(job.Definition, run.At, now, run.Blocked);
            if (
                job.Times is { Quiet.Length: > 0 } times
                && times.WindowAround(now) is null
                && times.WindowAround(now + takes - Duration.FromSeconds(1)) is { } window
            )
                Notes.RunsInto(job.Definition, now, takes, window.Name);
            var played = new PlayedRun(job.Index, run.Claim.Due, now, now + takes, run.Outcome);
            job.AtWork = (run.Claim, played);
            Put(What.End, job.Index, played.End);
        }
        if (waiting.Count > 0)
            waiting.Explain(ceilings);
    }

    private void Ended(JobPlay job)
    {
        var (claim, run) = job.AtWork;
        ceilings.End(claim);
        job.IsBusy = false;
        runs.Add(run);
        copies.Made(job, run, Notes);
        foreach (var follower in job.Followers)
            Wait(jobs[follower], run.Due, run.End, PlayedOutcome.Runs);
        if (job.Pending is not { } due)
            return;
        job.Pending = null;
        Wait(job, due, run.End, PlayedOutcome.Runs);
    }

    private void NotRun(JobPlay job, Instant due, PlayedOutcome outcome)
    {
        runs.Add(new PlayedRun(job.Index, due, due, due, outcome));
        foreach (var follower in job.Followers)
            NotRun(jobs[follower], due, outcome == PlayedOutcome.Missed ? outcome : PlayedOutcome.HeldBack);
    }
}

/// <summary>A charter that is due too often to be played over so many days.</summary>
public sealed class ForecastTooLargeException(int days)
    : Exception($"more than {ForecastInput.MostRuns:n0} runs would be due within {days} days; ask for fewer days");
