using IronKeep.Catalogue;
using IronKeep.Core.Charters;
using IronKeep.Service.Basics;
using IronKeep.Service.Workers;
using IronKeep.Yaml;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.Options;

namespace IronKeep.Service.Charters;

/// <summary>The charter in force, read from the catalogue and replaced when another is applied, here or by another service.</summary>
public sealed class CharterInForce(IDbContextFactory<KeepContext> catalogue, IOptions<ServiceSettings> settings) : IBeatLook
{
    private volatile InForce current = new(0, Charter.Empty with { Own = settings.Value.Machine });

    public Charter Charter => current.Charter;
    public long Revision => current.Revision;

    public async Task LoadAsync(CancellationToken cancel)
    {
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        await CatchUpAsync(db, cancel);
    }

    /// <summary>Takes over a newer charter, where another service has applied one.</summary>
    public async Task CatchUpAsync(KeepContext db, CancellationToken cancel)
    {
        var newestId = await db.CharterRevisions.MaxAsync(r => (long?)r.Id, cancel) ?? 0;
        if (newestId == current.Revision)
            return;
        var newest = await db.CharterRevisions.AsNoTracking().FirstAsync(r => r.Id == newestId, cancel);
        var reading = CharterYaml.Read(newest.Yaml, settings.Value.Machine);
        if (reading.Charter is not { } charter)
            throw new StartRefusedException(
                $"revision {newest.Id} of the charter in the catalogue cannot be read ({reading.Mistakes[0].Message}); it was written by "
                    + $"another version of the service"
            );
        Replace(newest.Id, charter);
    }

    Task IBeatLook.LookAsync(CancellationToken cancel) => LoadAsync(cancel);

    /// <summary>Another charter is in force.</summary>
    public event Action? Changed;

    public void Replace(long revision, Charter charter)
    {
        current = new InForce(revision, charter);
        Changed?.Invoke();
    }

    private sealed record InForce(long Revision, Charter Charter);
}
