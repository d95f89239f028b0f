using System.Xml.Linq;
using IronKeep.Catalogue;
using Microsoft.AspNetCore.DataProtection.KeyManagement;
using Microsoft.AspNetCore.DataProtection.Repositories;
using Microsoft.EntityFrameworkCore;

namespace IronKeep.Service.SignIn;

/// <summary>Keeps the keys that seal sign-ins in the catalogue, so that a sign-in holds in every service on it, and after a move.</summary>
public sealed class SealingKeys(IDbContextFactory<KeepContext> catalogue) : IXmlRepository
{
    public IReadOnlyCollection<XElement> GetAllElements()
    {
        using var db = catalogue.CreateDbContext();
        return [.. db.SealingKeys.AsNoTracking().Select(k => k.Xml).ToList().Select(XElement.Parse)];
    }

    public void StoreElement(XElement element, string friendlyName)
    {
        using var db = catalogue.CreateDbContext();
        db.SealingKeys.Add(new SealingKey { Name = friendlyName, Xml = element.ToString(SaveOptions.DisableFormatting) });
        db.SaveChanges();
    }

    /// <summary>
    /// Makes the first key where there is none, before anything is sealed: two services that each made one would not know each other's for
    /// a day. Later ones are made two days before they are used, and every service looks for new ones each day.
    /// </summary>
    public async Task BeginAsync(IKeyManager keys, CancellationToken cancel)
    {
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        if (!db.IsPostgres())
            return;
        await using var change = await db.BeginChangeAsync(cancel);
        if (await db.SealingKeys.AnyAsync(cancel))
            return;
        keys.CreateNewKey(DateTimeOffset.UtcNow, DateTimeOffset.UtcNow + Lasts);
        await change.CommitAsync(cancel);
    }

    private static readonly TimeSpan Lasts = TimeSpan.FromDays(90);

    /// <summary>Takes over the keys that an earlier version kept as files, so that nobody has to sign in again.</summary>
    public async Task TakeOverAsync(string folder, CancellationToken cancel)
    {
        if (!Directory.Exists(folder))
            return;
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        foreach (var file in Directory.EnumerateFiles(folder, "key-*.xml"))
        {
            var name = Path.GetFileNameWithoutExtension(file);
            if (!await db.SealingKeys.AnyAsync(k => k.Name == name, cancel))
                db.SealingKeys.Add(new SealingKey { Name = name, Xml = await File.ReadAllTextAsync(file, cancel) });
        }
        await db.SaveChangesAsync(cancel);
        Directory.Delete(folder, recursive: true);
    }
}
