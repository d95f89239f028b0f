using IronKeep.Catalogue;
using IronKeep.Core.Watching;
using IronKeep.Service.Basics;
using IronKeep.Stores.Posix;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.Options;

namespace IronKeep.Service.Workers;

/// <summary>
/// This service as one of those that carry out runs. Where several share a catalogue each beats, and who has not beaten for
/// <see cref="LostAfter"/> has lost what it held, for good: when it comes back it is somebody new. Alone on its file a service needs no
/// beats.
/// </summary>
public sealed class WorkerSelf(IDbContextFactory<KeepContext> catalogue, IOptions<ServiceSettings> settings, ILogger<WorkerSelf> log)
{
    public static readonly TimeSpan BeatEvery = TimeSpan.FromSeconds(2),
        LostAfter = TimeSpan.FromSeconds(8);
    private readonly BootClock steady = new();
    private long beat;
    private long distrustUntil;
    private bool gaveUp;

    /// <summary>The id under which it holds what it holds; another after it was lost.</summary>
    public string Id { get; private set; } = "";

    /// <summary>Whether others may work on the same catalogue.</summary>
    public bool IsShared => settings.Value.CatalogueIsShared;

    /// <summary>Whether what it holds is still its own, as far as it can know by itself.</summary>
    public bool Holds => Id.Length > 0 && (!IsShared || steady.GetElapsedTime(beat) < LostAfter);

    /// <summary>Raised, with the id that is over, when it was lost.</summary>
    public event Action<string>? Lost;

    /// <summary>Enters as somebody new. Alone on the catalogue, whoever was there before is gone.</summary>
    public async Task JoinAsync(CancellationToken cancel)
    {
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        await using var change = await db.BeginChangeAsync(cancel);
        var now = await CatalogueKinds.NowAsync(db, cancel);
        var began = steady.GetTimestamp();
        if (!IsShared)
            await db.Workers.Where(w => !w.Gone).ExecuteUpdateAsync(s => s.SetProperty(w => w.Gone, true), cancel);
        // Of those that are gone only who still has something to hand over is remembered.
        await db
            .Workers.Where(w => w.Gone && !db.Runs.Any(r => r.Worker == w.Id && r.State == Core.Watching.RunState.Running))
            .ExecuteDeleteAsync(cancel);
        var self = new Worker
        {
            Id = Guid.NewGuid().ToString("n")[..12],
            Host = Environment.MachineName,
            ProcessId = Environment.ProcessId,
            Address = settings.Value.Listen,
            BegunAt = now,
            BeatAt = now,
        };
        db.Workers.Add(self);
        await db.SaveChangesAsync(cancel);
        await change.CommitAsync(cancel);
        (Id, beat, gaveUp) = (self.Id, began, false);
    }

    /// <summary>Says that it is there, and buries who is not. Does nothing where it is alone.</summary>
    public async Task BeatAsync(CancellationToken cancel)
    {
        if (!IsShared)
            return;
        var began = steady.GetTimestamp();
        // Whoever slept himself cannot tell whether the others were silent: they get the time to say something.
        if (steady.GetElapsedTime(beat) > LostAfter)
            distrustUntil = began + (long)(LostAfter.TotalSeconds * steady.TimestampFrequency);
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        var now = await CatalogueKinds.NowAsync(db, cancel);
        var id = Id;
        if (await db.Workers.Where(w => w.Id == id && !w.Gone).ExecuteUpdateAsync(s => s.SetProperty(w => w.BeatAt, now), cancel) == 0)
        {
            log.LogWarning(
                "This service was not heard of for {Seconds} s and has lost what it held as {Worker}; it begins anew",
                (int)steady.GetElapsedTime(beat).TotalSeconds,
                id
            );
            Lost?.Invoke(id);
            await JoinAsync(cancel);
            return;
        }
        (beat, gaveUp) = (began, false);
        if (began < distrustUntil)
            return;
        var since = now - (long)LostAfter.TotalMilliseconds;
        if (
            await db.Workers.Where(w => !w.Gone && w.BeatAt < since).ExecuteUpdateAsync(s => s.SetProperty(w => w.Gone, true), cancel)
            is > 0
                and var gone
        )
            log.LogWarning(
                "{Count} service(s) on this catalogue have not been heard of for {Seconds} s and are gone",
                gone,
                LostAfter.TotalSeconds
            );
    }

    /// <summary>
    /// To be asked when the catalogue cannot be reached: once its time is over, what it has at work is ended here too, because others may
    /// have begun it anew.
    /// </summary>
    public void GiveUpWhenOver()
    {
        if (!IsShared || Id.Length == 0 || Holds || gaveUp)
            return;
        gaveUp = true;
        log.LogWarning(
            "The catalogue has not been reached for {Seconds} s; what this service has at work is ended",
            (int)steady.GetElapsedTime(beat).TotalSeconds
        );
        Lost?.Invoke(Id);
    }

    /// <summary>Leaves in good order: what it led is free at once.</summary>
    public async Task LeaveAsync()
    {
        if (Id.Length == 0)
            return;
        var id = Id;
        await using var db = await catalogue.CreateDbContextAsync();
        await db.Workers.Where(w => w.Id == id).ExecuteUpdateAsync(s => s.SetProperty(w => w.Gone, true));
    }
}
