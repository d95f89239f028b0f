using IronKeep.Core.Charters;
using IronKeep.Service.Catalogue;
using IronKeep.Yaml;
using Microsoft.EntityFrameworkCore;

namespace IronKeep.Service.Charters;

/// <summary>The charter in force, read once from the catalogue and replaced when another is applied.</summary>
public sealed class CharterInForce(IDbContextFactory<KeepContext> catalogue)
{
    private volatile InForce current = new(0, Charter.Empty);

    public Charter Charter => current.Charter;
    public long Revision => current.Revision;

    public async Task LoadAsync(CancellationToken cancel)
    {
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        var newest = await db.CharterRevisions.OrderByDescending(r => r.Id).FirstOrDefaultAsync(cancel);
        if (newest is null) return;
        var reading = CharterYaml.Read(newest.Yaml);
        if (reading.Charter is not { } charter)
            throw new Hosting.StartRefusedException($"revision {newest.Id} of the charter in the catalogue cannot be read ({reading.Mistakes[0].Message}); it was written by another version of the service");
        current = new InForce(newest.Id, charter);
    }

    public void Replace(long revision, Charter charter) => current = new InForce(revision, charter);

    private sealed record InForce(long Revision, Charter Charter);
}
