using System.Diagnostics;
using IronKeep.Catalogue;
using IronKeep.Core.Charters;
using IronKeep.Core.Watching;
using IronKeep.Service.Basics;
using IronKeep.Service.Charters;
using Microsoft.EntityFrameworkCore;

namespace IronKeep.Service.Machines;

/// <summary>
/// How much of a machine's line one of its runs may take at present, by the charter in force, the clock, and how many runs, of whatever
/// service, are at work over the lines that it shares with other machines.
/// </summary>
public sealed class LineCeilings(IDbContextFactory<KeepContext> catalogue, CharterInForce inForce, TimeProvider clock)
{
    /// <summary>Every run at work asks every few seconds; they are counted once for all of them (real time).</summary>
    private static readonly TimeSpan CountsFor = TimeSpan.FromSeconds(2);
    private readonly Lock counting = new();
    private Counted? counted;

    private sealed record Counted(long At, IReadOnlyDictionary<string, int> OfMachine);

    /// <summary>Bytes a second; null: any number. Asks the catalogue now and then, and waits for it.</summary>
    public long? Of(string machine)
    {
        var charter = inForce.Charter;
        var lines = SharedLines.Of(charter);
        var atWork = lines.Of(machine).Any(l => !l.Bandwidth.IsEmpty) ? AtWork() : null;
        return SharedLines.ShareOf(charter, machine, clock.Now(), line =>
            atWork?.Where(m => lines.Of(m.Key).Contains(line)).Sum(m => m.Value) ?? 1
        );
    }

    /// <summary>How many runs that send or fetch content are at work on each machine.</summary>
    private IReadOnlyDictionary<string, int> AtWork()
    {
        lock (counting)
        {
            if (counted is { } known && Stopwatch.GetElapsedTime(known.At) < CountsFor)
                return known.OfMachine;
            IReadOnlyDictionary<string, int> of;
            try
            {
                of = Count();
            }
            catch (Exception e) when (CatalogueKinds.IsRefusal(e))
            {
                // What was counted last is shared out until the catalogue answers again; nobody asks meanwhile.
                of = counted?.OfMachine ?? new Dictionary<string, int>();
            }
            counted = new Counted(Stopwatch.GetTimestamp(), of);
            return of;
        }
    }

    private Dictionary<string, int> Count()
    {
        using var db = catalogue.CreateDbContext();
        var charter = inForce.Charter;
        return db
            .Runs.Where(r => r.State == RunState.Running && (r.Kind == RunKind.Backup || r.Kind == RunKind.Restore))
            .Select(r => new
            {
                r.Kind,
                r.Job,
                r.Machine,
                r.Store,
            })
            .AsEnumerable()
            .Where(r => StoresOf(r.Kind, r.Job, r.Machine, r.Store).Any(s => charter.Stores.GetValueOrDefault(s)?.On != r.Machine))
            .GroupBy(r => r.Machine)
            .ToDictionary(g => g.Key, g => g.Count());

        // What a machine writes to a disk of its own, or reads from there, goes over no line.
        IEnumerable<string> StoresOf(RunKind kind, string? job, string machine, string? store) =>
            kind == RunKind.Backup && charter.Placed.Find(job, machine) is { Into.IsEmpty: false } placed ? placed.Into : [store ?? ""];
    }
}
