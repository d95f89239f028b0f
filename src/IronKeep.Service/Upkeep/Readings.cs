using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Service.Stores;
using IronKeep.Stores;
using IronKeep.Stores.Places;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace IronKeep.Service.Upkeep;

/// <summary>How much of a store was read back and found as written.</summary>
internal static class Readings
{
    /// <summary>How much of the store has been read back, and how long ago the oldest part of it.</summary>
    public static async Task<ReadingAnswer?> OfAsync(
        StoreDefinition store,
        OpenStores stores,
        KeepContext db,
        Instant now,
        CancellationToken cancel
    )
    {
        try
        {
            var sizes = await stores.AskAsync(store.Name, opened => opened.Parts());
            var read = await db.PackReads.Where(r => r.Store == store.Name).ToDictionaryAsync(r => r.Pack, r => r.At, cancel);
            var oldest = sizes.Keys.Where(read.ContainsKey).Select(p => (Instant?)read[p]).Min();
            return new ReadingAnswer(
                sizes.Values.Sum(),
                sizes.Where(s => read.ContainsKey(s.Key)).Sum(s => s.Value),
                sizes
                    .Where(s =>
                        read.TryGetValue(s.Key, out var at) && now - at <= (store.VerifyWithin?.ToDuration() ?? Duration.FromDays(30))
                    )
                    .Sum(s => s.Value),
                oldest?.ToDateTimeOffset()
            );
        }
        catch (Exception e) when (e is PlaceException or StoreDamageException)
        {
            return null;
        }
    }
}
