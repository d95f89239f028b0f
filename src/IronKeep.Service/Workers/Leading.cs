using IronKeep.Catalogue;
using Microsoft.EntityFrameworkCore;

namespace IronKeep.Service.Workers;

/// <summary>Another service leads now; what was begun here in its name has not happened.</summary>
public sealed class NotLeadingException() : Exception("another service has taken over the clock; this one leaves it to that");

/// <summary>
/// Which one of the services on a catalogue turns schedules into runs and does what follows: the one whose worker the lease names, for as
/// long as that worker is heard of. The lease is read again in each change that is made in its name, so one that was stopped, and goes on
/// without having noticed, changes nothing. A lock of the database alone would not do: it lasts as long as the connection of whoever was
/// stopped.
/// </summary>
public sealed class Leading(IDbContextFactory<KeepContext> catalogue, WorkerSelf self, ILogger<Leading> log)
{
    private const string Name = "clock";
    private volatile string? ledAs;

    /// <summary>Goes up each time this service begins to lead.</summary>
    public long Term { get; private set; }

    public bool IsLeading => ledAs is { } id && id == self.Id && self.Holds;

    /// <summary>Raised when this service begins to lead.</summary>
    public event Action? Began;

    /// <summary>Takes the lead where nobody has it.</summary>
    public async Task LookAsync(CancellationToken cancel)
    {
        if (!self.IsShared && IsLeading)
            return;
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        var id = self.Id;
        if (!await IsFreeAsync(db, id, cancel))
        {
            if (ledAs is not null && ledAs != id)
                ledAs = null;
            return;
        }
        await using var change = await db.BeginChangeAsync(cancel);
        if (!await IsFreeAsync(db, id, cancel) || !await db.Workers.AnyAsync(w => w.Id == id && !w.Gone, cancel))
            return;
        if (await db.Leases.FindAsync([Name], cancel) is { } lease)
            (lease.Worker, lease.Term) = (id, lease.Term + 1);
        else
            db.Leases.Add(
                new Lease
                {
                    Name = Name,
                    Worker = id,
                    Term = 1,
                }
            );
        await db.SaveChangesAsync(cancel);
        await change.CommitAsync(cancel);
        (ledAs, Term) = (id, Term + 1);
        if (self.IsShared)
            log.LogInformation("This service, worker {Worker}, leads from now on", id);
        Began?.Invoke();
    }

    private static async Task<bool> IsFreeAsync(KeepContext db, string own, CancellationToken cancel) =>
        await db.Leases.AsNoTracking().FirstOrDefaultAsync(l => l.Name == Name, cancel) is not { } lease
        || (lease.Worker != own && !await db.Workers.AnyAsync(w => w.Id == lease.Worker && !w.Gone, cancel));

    /// <summary>Begins a change in the name of who leads. Throws <see cref="NotLeadingException"/> when that is another.</summary>
    public async Task<Change> BeginAsync(KeepContext db, CancellationToken cancel)
    {
        var change = await db.BeginChangeAsync(cancel);
        try
        {
            var id = self.Id;
            if (ledAs == id && await db.Leases.AnyAsync(l => l.Name == Name && l.Worker == id, cancel))
                return change;
            ledAs = null;
            throw new NotLeadingException();
        }
        catch
        {
            await change.DisposeAsync();
            throw;
        }
    }
}
