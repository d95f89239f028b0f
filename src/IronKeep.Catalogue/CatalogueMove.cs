using System.Reflection;
using Microsoft.EntityFrameworkCore;
using Microsoft.EntityFrameworkCore.Metadata;

namespace IronKeep.Catalogue;

/// <summary>A catalogue cannot be moved, for a reason that a person can mend; the message says how.</summary>
public sealed class MoveRefusedException(string message) : Exception(message);

/// <summary>
/// Carries a catalogue from one database to another, of whichever kind, in one transaction, and then compares them row by row. What only
/// says who is at work now stays behind.
/// </summary>
public static class CatalogueMove
{
    private const int Batch = 1000;
    private static readonly Type[] StaysBehind = [typeof(Worker), typeof(Lease), typeof(HangingRun), typeof(RoomPromise)];

    /// <summary>
    /// How many rows of how many tables were moved. Throws <see cref="MoveRefusedException"/>, and then the target is as it was.
    /// </summary>
    public static async Task<(long Rows, int Tables)> MoveAsync(string from, string to, CancellationToken cancel)
    {
        await using var source = Open(from);
        await using var target = Open(to);
        if ((await source.Database.GetPendingMigrationsAsync(cancel)).Any())
            throw new MoveRefusedException(
                $"the catalogue {CatalogueKinds.Told(from)} is of an earlier version; start this version's service on it once, stop it, "
                    + $"and move it then"
            );
        await CatalogueKinds.MigrateAsync(to, cancel);
        var entities = Ordered(source.Model);
        foreach (var entity in entities)
            if (await (Task<bool>)Of(entity, nameof(AnyAsync), target, cancel))
                throw new MoveRefusedException(
                    $"{CatalogueKinds.Told(to)} holds something already (table {entity.GetTableName()}); give an empty one"
                );
        long rows = 0;
        await using (var whole = await target.Database.BeginTransactionAsync(cancel))
        {
            foreach (var entity in entities)
                rows += await (Task<long>)Of(entity, nameof(CopyAsync), source, target, cancel);
            foreach (var entity in entities)
                await CatalogueKinds.GoOnAsync(source, target, entity, cancel);
            foreach (var entity in entities)
                await (Task)Of(entity, nameof(CompareAsync), source, target, entity, cancel);
            await whole.CommitAsync(cancel);
        }
        return (rows, entities.Count);
    }

    private static KeepContext Open(string catalogue) =>
        new((DbContextOptions<KeepContext>)new DbContextOptionsBuilder<KeepContext>().UseCatalogue(catalogue, limited: false).Options);

    /// <summary>Those that others refer to come first.</summary>
    private static List<IEntityType> Ordered(IModel model)
    {
        var left = model
            .GetEntityTypes()
            .Where(e => !StaysBehind.Contains(e.ClrType))
            .OrderBy(e => e.Name, StringComparer.Ordinal)
            .ToList();
        var ordered = new List<IEntityType>();
        while (left.Count > 0)
        {
            var next = left.First(e => e.GetForeignKeys().All(k => k.PrincipalEntityType == e || ordered.Contains(k.PrincipalEntityType)));
            left.Remove(next);
            ordered.Add(next);
        }
        return ordered;
    }

    private static object Of(IEntityType entity, string method, params object[] arguments) =>
        typeof(CatalogueMove)
            .GetMethod(method, BindingFlags.NonPublic | BindingFlags.Static)!
            .MakeGenericMethod(entity.ClrType)
            .Invoke(null, arguments)!;

    private static Task<bool> AnyAsync<T>(KeepContext db, CancellationToken cancel)
        where T : class => db.Set<T>().AnyAsync(cancel);

    private static async Task<long> CopyAsync<T>(KeepContext source, KeepContext target, CancellationToken cancel)
        where T : class
    {
        long count = 0;
        target.ChangeTracker.AutoDetectChangesEnabled = false;
        await foreach (var row in source.Set<T>().AsNoTracking().AsAsyncEnumerable().WithCancellation(cancel))
        {
            target.Set<T>().Add(row);
            if (++count % Batch == 0)
                await SaveAsync();
        }
        await SaveAsync();
        return count;

        async Task SaveAsync()
        {
            await target.SaveChangesAsync(cancel);
            target.ChangeTracker.Clear();
        }
    }

    private static async Task CompareAsync<T>(KeepContext source, KeepContext target, IEntityType entity, CancellationToken cancel)
        where T : class
    {
        var properties = entity.GetProperties().Select(p => (p.Name, Get: p.PropertyInfo!)).ToList();
        var key = entity.FindPrimaryKey()!.Properties;
        await using var there = InOrder(target).AsAsyncEnumerable().GetAsyncEnumerator(cancel);
        await foreach (var row in InOrder(source).AsAsyncEnumerable().WithCancellation(cancel))
        {
            if (!await there.MoveNextAsync())
                throw Differs(row, "is not there");
            foreach (var (name, get) in properties)
                if (!Same(get.GetValue(row), get.GetValue(there.Current)))
                    throw Differs(row, $"differs in {name}");
        }
        if (await there.MoveNextAsync())
            throw Differs(there.Current, "is there and was not before");

        IQueryable<T> InOrder(KeepContext db) =>
            key.Aggregate(db.Set<T>().AsNoTracking(), (q, p) =>
                q is IOrderedQueryable<T> ordered && p != key[0]
                    ? ordered.ThenBy(r => EF.Property<object>(r, p.Name))
                    : q.OrderBy(r => EF.Property<object>(r, p.Name))
            );

        MoveRefusedException Differs(T row, string how) =>
            new(
                $"after the move a row of {entity.GetTableName()} ({string.Join(", ", key.Select(p => p.PropertyInfo!.GetValue(row)))}) "
                    + $"{how}; nothing was kept in the target, and the source is as it was"
            );
    }

    private static bool Same(object? a, object? b) =>
        (a, b) switch
        {
            (byte[] x, byte[] y) => x.AsSpan().SequenceEqual(y),
            // What PostgreSQL cannot hold was kept as the mark for it.
            (string x, string y) => x == y || x.Replace('\0', '\uFFFD') == y,
            _ => Equals(a, b),
        };
}
