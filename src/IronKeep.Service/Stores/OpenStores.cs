using System.Collections.Concurrent;
using IronKeep.Catalogue;
using IronKeep.Core.Charters;
using IronKeep.Service.Charters;
using IronKeep.Stores.Keys;
using IronKeep.Stores.Layouts;
using IronKeep.Stores.Places;
using IronKeep.Stores.Pooled;
using IronKeep.Stores.Posix;
using NodaTime;

namespace IronKeep.Service.Stores;

/// <summary>
/// The stores of the charter, opened when first needed and kept open: their chunk index is in memory. A store that does not answer holds up
/// nobody but those who want this very store, and those who only ask it something no longer than their patience.
/// </summary>
public sealed class OpenStores(CharterInForce charter, StorePlaces places, StoreLayouts layouts, TimeProvider clock) : IDisposable
{
    /// <summary>How long a question waits for a store, in real time; then the store is away.</summary>
    public static readonly TimeSpan Patience = TimeSpan.FromSeconds(10);

    private sealed class Slot
    {
        public Lock Gate { get; } = new();
        public IStoreLayout? Store;
        public (StoreDefinition Declared, DateTimeZone Zone)? OpenedAs;

        /// <summary>A question that was given up and hangs still; while it does, nobody else asks.</summary>
        public volatile Task? Hanging;
        public DateTimeOffset HangsSince;
    }

    private readonly ConcurrentDictionary<string, Slot> slots = new();

    /// <summary>How long this service lets a store think over a question; tests are less patient.</summary>
    public TimeSpan Waits { get; set; } = Patience;

    /// <summary>
    /// The open store, for who may wait: a store that hangs is waited for. Throws <see cref="PlaceException"/> or
    /// <see cref="IronKeep.Stores.StoreDamageException"/> when it cannot be opened.
    /// </summary>
    public IStoreLayout Get(string name)
    {
        if (!charter.Charter.Stores.TryGetValue(name, out var declared))
            throw new PlaceException(
                PlaceFault.Unreachable,
                $"the charter has no store '{name}' any more; declare it again to reach its copies"
            );
        var slot = slots.GetOrAdd(name, _ => new Slot());
        if (slot.Hanging is { IsCompleted: false })
            throw Away(name, slot);
        if (!slot.Gate.TryEnter(Waits))
            throw new PlaceException(
                PlaceFault.Unreachable,
                $"store {name} is being opened and does not answer; look at its disk, its mount or its server"
            );
        try
        {
            if (slot.Store is { } store && slot.OpenedAs == (declared, charter.Charter.Zone))
                return store;
            // Runs that are in it go on with the old one, whose connections close when they are done.
            slot.Store?.Dispose();
            (slot.Store, slot.OpenedAs) = (null, (declared, charter.Charter.Zone));
            return slot.Store = layouts
                .Of(declared)
                .Open(new StoreOpening(declared, places.Of(declared), StorePlaces.SecretOf(declared), charter.Charter.Zone));
        }
        catch (StoreKeyException e)
        {
            throw new PlaceException(PlaceFault.AccessRefused, e.Message, e);
        }
        finally
        {
            slot.Gate.Exit();
        }
    }

    /// <summary>
    /// Asks the open store something; one that does not answer in time is a <see cref="PlaceException"/>, and so is every further question
    /// until it does.
    /// </summary>
    public Task<T> AskAsync<T>(string name, Func<IStoreLayout, T> question, TimeSpan? patience = null) =>
        WithinAsync(name, () => question(Get(name)), patience);

    /// <summary>Does something with a store's place within the same patience, whether or not the store is open.</summary>
    public async Task<T> WithinAsync<T>(string name, Func<T> action, TimeSpan? patience = null)
    {
        var slot = slots.GetOrAdd(name, _ => new Slot());
        if (slot.Hanging is { IsCompleted: false })
            throw Away(name, slot);
        // A thread of its own: the pool must not run dry because a disk hangs.
        var work = Task.Factory.StartNew(action, CancellationToken.None, TaskCreationOptions.LongRunning, TaskScheduler.Default);
        try
        {
            return await work.WaitAsync(patience ?? Waits);
        }
        catch (TimeoutException)
        {
            _ = work.ContinueWith(t => t.Exception, TaskScheduler.Default);
            (slot.HangsSince, slot.Hanging) = (clock.GetUtcNow(), work);
            throw Away(name, slot);
        }
    }

    /// <summary>Whether a question to the store hangs.</summary>
    public bool IsAway(string name) => slots.TryGetValue(name, out var slot) && slot.Hanging is { IsCompleted: false };

    private static PlaceException Away(string name, Slot slot) =>
        new(
            PlaceFault.Unreachable,
            $"store {name} does not answer, since {slot.HangsSince.UtcDateTime:HH:mm:ss} UTC at the latest; look at its disk, its mount or "
                + $"its server"
        );

    /// <summary>
    /// Makes the folder and the empty store of a newly declared store. Null when it is there now, else why not. Only the first
    /// applying makes a folder: later a missing one means a missing mount. On a machine that is away it is made before the first copy.
    /// </summary>
    public async Task<string?> PrepareAsync(StoreDefinition store)
    {
        try
        {
            return await WithinAsync(store.Name, () => Prepare(store));
        }
        catch (PlaceException e) when (store.On is not null && e.Fault == PlaceFault.Unreachable)
        {
            return null;
        }
        catch (Exception e)
            when (e is IOException or UnauthorizedAccessException or StoreKeyException or IronKeep.Stores.StoreDamageException)
        {
            return $"store {store.Name} cannot be made: {e.Message}";
        }
    }

    private string? Prepare(StoreDefinition store)
    {
        var layout = layouts.Of(store);
        if (store.LocalFolder is { } folder && !Directory.Exists(folder))
        {
            if (!layout.MakesFolders)
                return $"store {store.Name}: {folder} is not there, and nothing was ever written to it; mount it, or mend the path";
            Directory.CreateDirectory(folder, OwnFiles.Folder);
        }
        var place = places.Of(store);
        using var remote = place as IDisposable;
        if (!layout.IsAt(place))
            layout.Create(
                place,
                new StoreMaking(store.Sha256 ? HashKind.Sha256 : HashKind.Blake3, StorePlaces.SecretOf(store), "the service's"),
                clock.GetUtcNow()
            );
        else if (StorePlaces.SecretOf(store) is not null && !layout.Encrypts(place))
            return $"store {store.Name}: the charter names a secret, but the store that lies at {place.Name} does not encrypt; take the "
                + $"line out, or begin an encrypted store in another folder";
        return null;
    }

    public void Dispose()
    {
        foreach (var slot in slots.Values)
            slot.Store?.Dispose();
    }
}
