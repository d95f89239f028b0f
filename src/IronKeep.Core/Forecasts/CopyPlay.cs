using System.Collections.Immutable;
using System.Runtime.InteropServices;
using IronKeep.Core.Charters;
using IronKeep.Core.Retention;
using IronKeep.Core.Watching;
using NodaTime;

namespace IronKeep.Core.Forecasts;

/// <summary>
/// The copies of all jobs in all stores while a forecast is played: made, expired to the bin, reclaimed; and their bytes.
/// </summary>
internal sealed class CopyPlay
{
    /// <summary>One job in one store: its rows under the policy, and the bytes of what is alive and of what is there at all.</summary>
    internal sealed class Place(int index, int store, Ledger ledger, SpaceModel model)
    {
        public int Index => index;
        public int Store => store;
        public Ledger Ledger => ledger;
        public ByteChain Alive { get; } = new(model);
        public ByteChain There { get; } = new(model);
        public Instant? FirstTaken { get; set; }
        public Instant? LastTaken { get; set; }

        /// <summary>Copies that take nobody's place, until they are old and replaced.</summary>
        public List<int> Uncounted { get; } = [];
        public double AliveBytes { get; set; }
        public double ThereBytes { get; set; }
    }

    private readonly ForecastInput input;
    private readonly StorePlay[] stores;
    private readonly List<Place> places = [];
    private readonly ImmutableArray<LedgerKey>.Builder keys = ImmutableArray.CreateBuilder<LedgerKey>();
    private readonly Dictionary<string, List<int>> placesOf = [];
    private readonly List<CopyLife> lives = [];
    private readonly HashSet<int> held = [],
        doubted = [];
    private readonly List<int> expired = [];
    private readonly Dictionary<Quantities.Span, (Instant From, Instant To)> promised = [];

    public CopyPlay(ForecastInput input, JobPlay[] jobs, StorePlay[] stores)
    {
        this.input = input;
        this.stores = stores;
        var charter = input.Charter;
        var storeIndex = stores.Select((s, i) => (s.Definition.Name, i)).ToDictionary(s => s.Name, s => s.i);
        foreach (var job in jobs)
        {
            if (job.Definition.Into.Length == 0)
                continue;
            var policy = charter.Policies[job.Definition.Policy];
            var model = new SpaceModel(job.Assumed, job.Period(), input.AsOf);
            placesOf[job.Definition.Name] = [];
            foreach (var store in job.Definition.Into)
            {
                placesOf[job.Definition.Name].Add(places.Count);
                keys.Add(new LedgerKey(job.Definition.Name, store));
                places.Add(
                    new Place(
                        places.Count,
                        storeIndex[store],
                        new Ledger(job.Definition, policy, policy.Zone ?? charter.Zone, model),
                        model
                    )
                );
            }
        }
        AddKnown();
        foreach (var store in stores)
            store.Change = 0;
    }

    public ImmutableArray<LedgerKey> Ledgers => keys.ToImmutable();

    public IReadOnlyList<Place> Places => places;

    /// <summary>The lives of all copies, in the order of making.</summary>
    public ImmutableArray<CopyLife> Lives() => ImmutableCollectionsMarshal.AsImmutableArray(lives.ToArray());

    /// <summary>A run has ended well: a copy in each of its job's stores, and the prune that follows, if one does.</summary>
    public void Made(JobPlay job, PlayedRun run, Notes notes)
    {
        if (!placesOf.TryGetValue(job.Definition.Name, out var into))
            return;
        foreach (var index in into)
        {
            var place = places[index];
            if (place.LastTaken is { } last && job.Definition.FreshWithin is { } fresh && run.End - last > fresh.ToDuration())
                notes.Stale(job.Definition, last + fresh.ToDuration(), run.End - last);
            var copy = lives.Count;
            lives.Add(new CopyLife(index, run.Start, null, null, null));
            place.FirstTaken ??= run.Start;
            place.LastTaken = run.Start;
            place.Ledger.Add(copy, run.Start);
            place.Alive.Add(copy, run.Start);
            place.There.Add(copy, run.Start);
            if (job.Definition.Prune == PruneTime.AfterSuccess || input.PrunesByHandToo)
                Prune(place, run.End);
            Account(place);
            stores[place.Store].Judge(run.End);
        }
    }

    /// <summary>Frees what has been in the bin for long enough.</summary>
    public void Reclaim(int store, Instant at)
    {
        var play = stores[store];
        while (play.Bin.TryPeek(out var first) && first.LeavesAt <= at)
        {
            play.Bin.Dequeue();
            var place = places[lives[first.Copy].Ledger];
            place.There.Remove(first.Copy);
            lives[first.Copy] = lives[first.Copy] with { Gone = at };
            Account(place);
        }
    }

    /// <summary>The end of a day: bytes are noted, promises are looked at.</summary>
    public void Sample(Instant at, Notes notes)
    {
        foreach (var store in stores)
            store.Sample();
        promised.Clear();
        foreach (var place in places)
        {
            foreach (var promise in place.Ledger.Policy.Promises)
            {
                if (!promised.TryGetValue(promise, out var window))
                    promised[promise] = window = Promised(promise, at, input.Charter.Zone);
                var (from, to) = window;
                if (place.FirstTaken is not { } first || first > to)
                    continue;
                if (!HasAliveBetween(place, from, to))
                    notes.Broken(place.Ledger.Job, keys[place.Index].Store, promise, at);
            }
        }
    }

    /// <summary>
    /// A copy "of so long ago" is one at least that old and at most half as old again (at least a day): the restore point that a
    /// person would accept for it.
    /// </summary>
    private static (Instant From, Instant To) Promised(Quantities.Span age, Instant at, DateTimeZone zone)
    {
        var local = at.InZone(zone).LocalDateTime;
        var to = age.Before(local).InZoneLeniently(zone).ToInstant();
        var slack = (at - to) / 2;
        return (to - (slack > Duration.FromDays(1) ? slack : Duration.FromDays(1)), to);
    }

    private bool HasAliveBetween(Place place, Instant from, Instant to)
    {
        var (low, high) = (0, place.Ledger.Rows);
        while (low < high)
        {
            var middle = (low + high) / 2;
            if (lives[place.Ledger.CopyAt(middle)].Taken < from)
                low = middle + 1;
            else
                high = middle;
        }
        return low < place.Ledger.Rows && lives[place.Ledger.CopyAt(low)].Taken <= to;
    }

    /// <summary>How many copies of a place its policy would let go at an instant, without doing it.</summary>
    public int WouldExpire(Place place, Instant at)
    {
        expired.Clear();
        place.Ledger.Expire(at, held, doubted, expired);
        return expired.Count;
    }

    private void Prune(Place place, Instant at)
    {
        expired.Clear();
        place.Ledger.Expire(at, held, doubted, expired);
        foreach (var copy in place.Uncounted)
            if (at - lives[copy].Taken > RetentionRules.UncountedStays && place.LastTaken > lives[copy].Taken)
                expired.Add(copy);
        if (place.Uncounted.Count > 0)
            place.Uncounted.RemoveAll(expired.Contains);
        var store = stores[place.Store];
        foreach (var copy in expired)
        {
            place.Alive.Remove(copy);
            lives[copy] = lives[copy] with { Expires = at };
            store.Bin.Enqueue((store.Definition.Bin.After(at, input.Charter.Zone), copy));
        }
    }

    private void AddKnown()
    {
        var byPlace = input.Copies.ToLookup(c => (c.Job, c.Store));
        for (var index = 0; index < places.Count; index++)
        {
            var place = places[index];
            foreach (
                var known in byPlace[(keys[index].Job, keys[index].Store)]
                    .OrderBy(c => c.Facts.Taken)
                    .ThenBy(c => c.Facts.Id, StringComparer.Ordinal)
            )
            {
                if (known.Facts.State == CopyState.Missing)
                    continue;
                var copy = lives.Count;
                lives.Add(new CopyLife(index, known.Facts.Taken, known.BinnedAt, null, known.Facts.Id));
                place.There.Add(copy, known.Facts.Taken);
                if (known.BinnedAt is { } binned)
                {
                    stores[place.Store].Bin.Enqueue((stores[place.Store].Definition.Bin.After(binned, input.Charter.Zone), copy));
                    continue;
                }
                place.Alive.Add(copy, known.Facts.Taken);
                if (known.Facts.Held is not null)
                    held.Add(copy);
                if (known.Facts.Doubted)
                    doubted.Add(copy);
                if (known.Facts.State is CopyState.Unsound or CopyState.Partial)
                {
                    place.Uncounted.Add(copy);
                    continue;
                }
                place.FirstTaken ??= known.Facts.Taken;
                place.LastTaken = known.Facts.Taken;
                place.Ledger.Add(copy, known.Facts.Taken);
            }
            Account(place);
        }
        foreach (var store in stores)
        {
            var ordered = store.Bin.OrderBy(b => b.LeavesAt).ToList();
            store.Bin.Clear();
            foreach (var entry in ordered)
                store.Bin.Enqueue(entry);
        }
    }

    /// <summary>Carries a change of a place's bytes over to its store.</summary>
    private void Account(Place place)
    {
        var store = stores[place.Store];
        store.Change += place.There.Bytes - place.ThereBytes;
        store.BinBytes += place.There.Bytes - place.Alive.Bytes - (place.ThereBytes - place.AliveBytes);
        (place.ThereBytes, place.AliveBytes) = (place.There.Bytes, place.Alive.Bytes);
    }
}
