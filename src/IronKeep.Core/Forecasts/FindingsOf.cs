using IronKeep.Core.Charters;
using IronKeep.Core.Quantities;
using NodaTime;

namespace IronKeep.Core.Forecasts;

/// <summary>Puts what a play has noticed into sentences.</summary>
internal sealed class FindingsOf(Forecast forecast, Player player)
{
    private readonly ForecastInput input = forecast.Input;
    private readonly List<Finding> findings = [];

    private Charter Charter => input.Charter;

    public List<Finding> All()
    {
        Stores();
        Promises();
        Media();
        Fits();
        Waits();
        Dues();
        Prunes();
        Stales();
        Unknowns();
        return findings;
    }

    /// <summary>A length of time in a few words.</summary>
    internal static string Words(Duration time) =>
        time.TotalDays >= 10 ? Counted.Of((long)time.TotalDays, "day")
        : time.TotalDays >= 2
            ? $"{Counted.Of((long)time.TotalDays, "day")}"
                + $"{(time.Hours == 0 ? time.Minutes == 0 ? "" : $" {time.Minutes} min" : $" {time.Hours} h")}"
        : time.TotalMinutes >= 60 ? $"{(long)time.TotalHours} h{(time.Minutes == 0 ? "" : $" {time.Minutes} min")}"
        : $"{Math.Max(1, (long)time.TotalMinutes)} min";

    private void Add(FindingKind kind, Instant? at, string subject, string message, string remedy) =>
        findings.Add(new Finding(kind, at, subject, message, remedy));

    private void Stores()
    {
        foreach (var store in player.StorePlays)
        {
            var name = store.Definition.Name;
            var room =
                $"{(store.Room is { } r ? new ByteSize(r) : default)}"
                + $"{(store.Reserve > 0 ? $" with {new ByteSize(store.Reserve)} in reserve" : "")}";
            var most = forecast.Stores.First(s => s.Store == name).Used.DefaultIfEmpty(0).Max();
            if (store.FullAt is { } full)
                Add(
                    FindingKind.StoreFull,
                    full,
                    $"store {name}",
                    $"will be full: {room} do not hold what is kept",
                    $"it comes to {new ByteSize(most)} within the span; give it "
                        + $"{new ByteSize(Math.Max(0, most + store.Reserve - (store.Room ?? 0)))} more, keep less, or reclaim more often"
                );
            else if (store.NearlyFullAt is { } nearly)
                Add(
                    FindingKind.StoreNearlyFull,
                    nearly,
                    $"store {name}",
                    $"will be nearly full, of {room}",
                    $"it comes to {new ByteSize(most)} within the span; plan for more room, or keep less"
                );
            if (store.Definition.ReclaimWhen is null && store.Bin.TryPeek(out var first) && first.LeavesAt <= forecast.End)
                Add(
                    FindingKind.NeverReclaimed,
                    first.LeavesAt,
                    $"store {name}",
                    $"frees nothing by itself: "
                        + $"{Counted.Of(store.Bin.Count(b => b.LeavesAt <= forecast.End), "expired copy", "expired copies")} would have "
                        + $"left the bin and still use space",
                    $"give it 'reclaim: daily at 06:00', or reclaim by hand"
                );
        }
    }

    private void Promises()
    {
        foreach (var (key, tally) in player.Notes.Promises)
            Add(
                FindingKind.PromiseBroken,
                tally.First,
                $"job {key.Job}",
                $"will have no copy of {key.Promise} ago in {key.Store}, for {Counted.Of(tally.Times, "day")} of the span",
                $"policy {Charter.Jobs[key.Job].Policy} promises one; add a rung that reaches further back, or remove the promise"
            );
    }

    private void Media()
    {
        foreach (var set in forecast.Rotations)
        {
            foreach (var group in set.Nights.Where(n => n.Shortage is not null).GroupBy(n => n.Group!))
            {
                var first = group.First();
                var enough = set.Enough.FirstOrDefault(e => e.Group == group.Key);
                var has = Charter.MediaGroups[group.Key].Media.Length;
                Add(
                    FindingKind.MediaShort,
                    first.Start,
                    $"rotation set {set.Set}",
                    $"is short of a medium in group {group.Key}, on {Counted.Of(group.Count(), "night")} of the span; "
                        + $"{(first.Shortage!.FirstFree is { } free ? $"{free} is free too late" : "none will ever be free again")}",
                    enough?.Count is { } count
                        ? $"it has {has}; {count} would be enough ({enough.How})"
                        : $"it has {has}; {enough?.How ?? "add media"}"
                );
            }
        }
    }

    private void Fits()
    {
        foreach (var (job, tally) in player.Notes.Limits)
            Add(
                FindingKind.NoFit,
                tally.First,
                $"job {job}",
                $"no longer fits its run limit of {Charter.Jobs[job].RunLimit}: it would take up to {Words(tally.Worst)}",
                "raise 'run-limit', or split the job"
            );
        foreach (var (job, tally) in player.Notes.Overlaps)
            Add(
                FindingKind.NoFit,
                tally.First,
                $"job {job}",
                $"is due again before it has ended, {Counted.Of(tally.Times, "time")}: these runs are left out",
                "let it run less often, or with 'overlap: wait'"
            );
        foreach (var ((job, window), tally) in player.Notes.Windows)
            Add(
                FindingKind.NoFit,
                tally.First,
                $"job {job}",
                $"runs into {window}, {Counted.Of(tally.Times, "time")}: it takes up to {Words(tally.Worst)}",
                "let it begin earlier, or make the quiet hours shorter"
            );
    }

    private void Waits()
    {
        foreach (var (job, tally) in player.Notes.Late)
        {
            var what = player
                .Notes.Waits.Where(w => w.Key.Job == job)
                .OrderByDescending(w => w.Value.Times)
                .Select(w => w.Key.For)
                .FirstOrDefault(f => f is not null);
            Add(
                FindingKind.StartsLate,
                tally.First,
                $"job {job}",
                $"starts later than its start limit of {Charter.Jobs[job].StartLimit}, {Counted.Of(tally.Times, "time")}, by up to "
                    + $"{Words(tally.Worst)}{(what is null ? "" : $"; it waits for {what}")}",
                "move or spread what is due together ('spread: 2 hours'), or raise the ceiling"
            );
        }
        foreach (
            var ((job, waitsFor), tally) in player.Notes.Waits.Where(w =>
                w.Key.For is not null && !player.Notes.Late.ContainsKey(w.Key.Job)
            )
        )
            Add(
                FindingKind.Collision,
                tally.First,
                $"job {job}",
                $"has to wait for {waitsFor}, {Counted.Of(tally.Times, "time")}, up to {Words(tally.Worst)}",
                "move one of them, or spread them ('spread: 1 hours'); nothing is lost as it is"
            );
    }

    private void Dues()
    {
        foreach (var job in player.JobPlays.Where(j => j is { Times: not null, Dues: 0, Definition.After: null }))
        {
            var next = job.Times!.Next(input.AsOf);
            if (next is { } at && at > forecast.End && input.Days < 366)
                continue;
            Add(
                FindingKind.NeverDue,
                null,
                $"job {job.Definition.Name}",
                next is { } due
                    ? $"is not due within the span; next {due.InZone(job.Times.Zone).Date:uuuu-MM-dd}"
                    : "is never due again: its schedule is over, or every instant is dropped by its windows",
                "change its 'when', or take it out of the charter"
            );
        }
    }

    private void Prunes()
    {
        if (input.PrunesByHandToo)
            return;
        foreach (var place in player.Copies.Places.Where(p => p.Ledger.Job.Prune == PruneTime.ByHand))
        {
            var count = player.Copies.WouldExpire(place, forecast.End);
            if (count == 0)
                continue;
            Add(
                FindingKind.NeverPruned,
                null,
                $"job {place.Ledger.Job.Name}",
                $"is pruned by hand only: by the end of the span {Counted.Of(count, "copy", "copies")} in "
                    + $"{forecast.Ledgers[place.Index].Store} would be past their policy and still be there",
                "give it 'prune: after-success', or prune it by hand now and then"
            );
        }
    }

    private void Stales()
    {
        foreach (var (job, tally) in player.Notes.Stales)
        {
            var limit = Charter.Jobs[job].FreshWithin!.Value;
            var age = tally.Worst - limit.ToDuration() < Duration.FromMinutes(1) ? $"just over {limit}" : $"up to {Words(tally.Worst)}";
            Add(
                FindingKind.GoesStale,
                tally.First,
                $"job {job}",
                $"its newest copy grows {age} old, {Counted.Of(tally.Times, "time")}, though it is promised fresh within {limit}",
                "raise 'fresh-within' above the longest gap of its schedule, or run it more often"
            );
        }
    }

    private void Unknowns()
    {
        foreach (var job in player.JobPlays.Where(j => j.Definition.Into.Length > 0 && j.Assumed.From == AssumedFrom.Unknown))
            Add(
                FindingKind.Unknown,
                null,
                $"job {job.Definition.Name}",
                $"has no history and no expectation: its copies are taken to need no space, its runs to last {Words(job.Assumed.Takes)}",
                "run it once, or state 'expect-size', 'expect-change' and 'expect-time'"
            );
    }
}
