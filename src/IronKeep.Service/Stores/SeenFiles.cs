using System.Globalization;
using IronKeep.Catalogue;
using IronKeep.Stores.Dated;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace IronKeep.Service.Stores;

/// <summary>
/// What is remembered of the files of a store of dated files, in the catalogue, under a version that grows with each saving.
/// </summary>
public sealed class SeenFiles(string store, IDbContextFactory<KeepContext> catalogue) : IFileMemory
{
    /// <summary>A first look can find very many; each of these parts is a change of its own, so that nobody waits long for his.</summary>
    private const int SavedAtOnce = 2000;

    private string Key => $"seen-files {store}";

    public (long Version, IReadOnlyList<FileMark>? Marks) Load(long known)
    {
        using var db = catalogue.CreateDbContext();
        var version = VersionOf(db);
        if (version == known)
            return (known, null);
        var rows = db.SeenFiles.AsNoTracking().Where(f => f.Store == store).ToList();
        // Whoever saves in between is noticed at the next saving, by this version.
        return (version, [.. rows.Select(ToMark)]);
    }

    public long? Save(long version, IReadOnlyCollection<FileMark> kept, IReadOnlyCollection<string> forgotten)
    {
        var changes = kept.Select(m => (m.Path, Mark: (FileMark?)m))
            .Concat(forgotten.Select(p => (Path: p, Mark: (FileMark?)null)))
            .ToList();
        foreach (var part in changes.Chunk(SavedAtOnce))
            if (SavePartAsync(version, part).GetAwaiter().GetResult())
                version++;
            else
                return null;
        return version;
    }

    private async Task<bool> SavePartAsync(long version, (string Path, FileMark? Mark)[] part)
    {
        await using var db = await catalogue.CreateDbContextAsync();
        await using var change = await db.BeginChangeAsync(CancellationToken.None);
        if (VersionOf(db) != version)
            return false;
        var (key, next) = (Key, (version + 1).ToString(CultureInfo.InvariantCulture));
        if (await db.KeptValues.Where(k => k.Key == key).ExecuteUpdateAsync(s => s.SetProperty(k => k.Value, next)) == 0)
            db.KeptValues.Add(new KeptValue { Key = key, Value = next });
        foreach (var few in part.Select(p => p.Path).Chunk(500))
            await db.SeenFiles.Where(f => f.Store == store && few.Contains(f.Path)).ExecuteDeleteAsync();
        db.SeenFiles.AddRange(part.Select(p => p.Mark).OfType<FileMark>().Select(ToRow));
        await db.SaveChangesAsync();
        await change.CommitAsync(CancellationToken.None);
        return true;
    }

    private long VersionOf(KeepContext db)
    {
        var key = Key;
        return db.KeptValues.AsNoTracking().FirstOrDefault(k => k.Key == key) is { } value
            ? long.Parse(value.Value, CultureInfo.InvariantCulture)
            : 0;
    }

    private SeenFile ToRow(FileMark mark) =>
        new()
        {
            Store = store,
            Path = mark.Path,
            Size = mark.Size,
            Modified = mark.Modified,
            Since = Instant.FromDateTimeOffset(mark.Since),
            IsCopy = mark.IsCopy,
            Changed = mark.Changed,
            Sum = mark.Sum,
            SumAt = mark.SumAt is { } at ? Instant.FromDateTimeOffset(at) : null,
            Problem = mark.Problem,
            Binned = mark.Binned is { } binned ? Instant.FromDateTimeOffset(binned) : null,
        };

    private static FileMark ToMark(SeenFile row) =>
        new(row.Path, row.Size, row.Modified, row.Since.ToDateTimeOffset())
        {
            IsCopy = row.IsCopy,
            Changed = row.Changed,
            Sum = row.Sum,
            SumAt = row.SumAt?.ToDateTimeOffset(),
            Problem = row.Problem,
            Binned = row.Binned?.ToDateTimeOffset(),
        };
}
