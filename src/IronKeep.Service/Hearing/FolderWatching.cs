using System.Collections.Concurrent;
using IronKeep.Catalogue;
using IronKeep.Core.Charters;
using IronKeep.Core.Quantities;
using IronKeep.Core.Watching;
using IronKeep.Service.Alerts;
using IronKeep.Service.Basics;
using IronKeep.Service.Charters;
using IronKeep.Service.Copies;
using IronKeep.Service.Stores;
using IronKeep.Service.Workers;
using IronKeep.Stores;
using IronKeep.Stores.Dated;
using IronKeep.Stores.Places;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace IronKeep.Service.Hearing;

/// <summary>
/// Looks over the folders of dated files, in the service that leads: what settled becomes a copy, what changed is told, and what came or
/// did not come is reported of the jobs that leave it. A folder on a disk that hangs keeps no other waiting.
/// </summary>
public sealed class FolderWatching(
    CharterInForce inForce,
    OpenStores stores,
    ShelfKeeper shelves,
    CopyArrivals arrivals,
    AlertBook alerts,
    IDbContextFactory<KeepContext> catalogue,
    Leading leading,
    TimeProvider clock,
    ILogger<FolderWatching> log
) : BackgroundService
{
    /// <summary>How often a folder is looked over, and what may be read each time to learn the sums of new files (bytes).</summary>
    private static readonly TimeSpan Every = TimeSpan.FromSeconds(20),
        Patience = TimeSpan.FromSeconds(5);
    private const long SumsEachTime = 64 * 1024 * 1024;
    private readonly ConcurrentDictionary<string, Watched> watched = new();

    private sealed class Watched
    {
        public Task Looking { get; set; } = Task.CompletedTask;
        public HashSet<(string Id, bool InBin)> Settled { get; set; } = [];
        public PlacedJob?[] Owners { get; set; } = [];
    }

    /// <summary>How the loop comes round.</summary>
    public LoopRounds Rounds { get; } = new(clock);

    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        while (!stoppingToken.IsCancellationRequested)
        {
            try
            {
                if (leading.IsLeading)
                    await LookAsync(stoppingToken);
                Rounds.Came();
            }
            catch (Exception e) when (!stoppingToken.IsCancellationRequested)
            {
                Rounds.Failed(e);
                log.LogError(e, "Looking over folders of dated files failed and is tried again");
            }
            await Task.Delay(Every, stoppingToken).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        }
    }

    /// <summary>One look over every folder of dated files; one that takes long goes on by itself.</summary>
    public async Task LookAsync(CancellationToken cancel)
    {
        var looks = new List<Task>();
        foreach (var store in inForce.Charter.Stores.Values.Where(s => s.Dated is not null))
        {
            var one = watched.GetOrAdd(store.Name, _ => new Watched());
            if (!one.Looking.IsCompleted)
                continue;
            looks.Add(one.Looking = Task.Run(() => TryAsync(store, one, cancel), cancel));
        }
        await Task.WhenAny(Task.WhenAll(looks), Task.Delay(Patience, cancel));
    }

    private async Task TryAsync(StoreDefinition store, Watched one, CancellationToken cancel)
    {
        try
        {
            await OneAsync(store, one, cancel);
        }
        catch (Exception e) when (e is PlaceException or StoreDamageException)
        {
            // Whoever watches stores tells of it.
            log.LogWarning("Store {Store} cannot be looked over: {Problem}", store.Name, e.Message);
        }
        catch (Exception e) when (!cancel.IsCancellationRequested)
        {
            log.LogError(e, "Looking over store {Store} failed and is tried again", store.Name);
        }
    }

    private async Task OneAsync(StoreDefinition store, Watched one, CancellationToken cancel)
    {
        if (stores.Get(store.Name) is not DatedStore folder)
            return;
        var look = folder.Look();
        var owners = inForce.Charter.Placed.All.Where(j => j.Watched && j.Into.Contains(store.Name)).ToArray();
        // Compared with the catalogue only when something is other than the last time.
        var now = look.Copies.Values.Select(c => (c.Id, c.IsInBin)).ToHashSet();
        if (!one.Settled.SetEquals(now) || !one.Owners.SequenceEqual(owners))
        {
            await shelves.SettleAsync(store.Name, notes: false, cancel);
            (one.Settled, one.Owners) = (now, owners);
        }
        await TellChangedAsync(store, folder, look, cancel);
        if (folder.RecordSums(SumsEachTime, cancel) is > 0 and var read)
            log.LogDebug("The sums of {Count} files of store {Store} were recorded", read, store.Name);
        await arrivals.ReportAsync(store, folder, cancel);
    }

    private async Task TellChangedAsync(StoreDefinition store, DatedStore folder, DatedLook look, CancellationToken cancel)
    {
        var changed = look.Changed.ToList();
        if (changed.Count == 0)
            return;
        await using (var db = await catalogue.CreateDbContextAsync(cancel))
            foreach (var copy in changed)
                await db
                    .Copies.Where(c => c.Id == copy.Id && c.Store == store.Name)
                    .ExecuteUpdateAsync(
                        s =>
                            s.SetProperty(c => c.State, CopyState.Unchecked)
                                .SetProperty(c => c.CheckedAt, (Instant?)null)
                                .SetProperty(c => c.Bytes, copy.Mark.Size)
                                .SetProperty(c => c.StoredBytes, copy.Mark.Size),
                        cancel
                    );
        await alerts.RaiseAsync(
            new Matter(
                Subject.OfStore(store.Name),
                AlertClass.Unsound,
                $"{Counted.Of(changed.Count, "copy", "copies")} of store {store.Name} changed after "
                    + $"{(changed.Count == 1 ? "it was" : "they were")} complete: "
                    + Counted.Named([.. changed.Select(c => c.Id)]),
                "Find out what writes to files that were finished; what was known of their content no longer holds. The next verification "
                    + "that finds all well closes this."
            ),
            cancel
        );
        folder.ToldOfChanges([.. changed.Select(c => c.Id)]);
    }
}
