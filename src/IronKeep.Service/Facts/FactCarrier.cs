using IronKeep.Catalogue;
using IronKeep.Service.Basics;
using IronKeep.Service.Workers;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace IronKeep.Service.Facts;

/// <summary>
/// Carries facts to those who follow from them, each with a position of its own, in the service that leads. One that fails is tried again
/// until it does not, keeps no other waiting, and is named in the service's look at itself.
/// </summary>
public sealed class FactCarrier(
    IDbContextFactory<KeepContext> catalogue,
    IEnumerable<IFollower> followers,
    Leading leading,
    FactSignal signal,
    TimeProvider clock,
    ILogger<FactCarrier> log
) : BackgroundService
{
    private const int Batch = 500;
    private static readonly TimeSpan LookEvery = TimeSpan.FromSeconds(2),
        TriesAgainAfter = TimeSpan.FromSeconds(5);

    /// <summary>What is said within this time is carried together: where much happens, whoever says it is held up less.</summary>
    private static readonly TimeSpan Gathers = TimeSpan.FromMilliseconds(100);
    private static readonly Duration Keeps = Duration.FromDays(30);
    private static readonly Duration TidyEvery = Duration.FromHours(1);
    private readonly Follow[] all = [.. followers.Select(f => new Follow(f))];
    private readonly SemaphoreSlim gate = new(1);
    private Instant tidied = Instant.MinValue;
    private bool begun;

    private sealed class Follow(IFollower follower)
    {
        public IFollower Follower => follower;

        /// <summary>Up to where there is nothing for it, as far as this service has looked.</summary>
        public long Seen { get; set; } = -1;
        public long? FailedAt { get; set; }
    }

    /// <summary>Raised when something was done that follows from a fact; what waits for its turn may have come of it.</summary>
    public event Action? Moved;

    /// <summary>How the loop comes round.</summary>
    public LoopRounds Rounds { get; } = new(clock);

    /// <summary>What a new follower begins with is settled before anything is said.</summary>
    public override async Task StartAsync(CancellationToken cancellationToken)
    {
        leading.Began += Forget;
        try
        {
            if (leading.IsLeading)
                await BeginAsync(cancellationToken);
        }
        catch (NotLeadingException)
        {
            // Whoever leads has begun.
        }
        await base.StartAsync(cancellationToken);
    }

    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        while (!stoppingToken.IsCancellationRequested)
        {
            try
            {
                await signal.WaitAsync(LookEvery, stoppingToken);
                var began = System.Diagnostics.Stopwatch.GetTimestamp();
                await CarryAsync(stoppingToken);
                var rest = Gathers - System.Diagnostics.Stopwatch.GetElapsedTime(began);
                if (rest > TimeSpan.Zero)
                    await Task.Delay(rest, stoppingToken);
                Rounds.Came();
            }
            catch (OperationCanceledException) when (stoppingToken.IsCancellationRequested)
            {
                break;
            }
            catch (Exception e)
            {
                Rounds.Failed(e);
                log.LogError(e, "Carrying facts failed and is tried again");
                await Task.Delay(LookEvery, CancellationToken.None);
            }
        }
    }

    /// <summary>Where the others are that led before is in the catalogue.</summary>
    private void Forget()
    {
        foreach (var follow in all)
            (follow.Seen, follow.FailedAt) = (-1, null);
        begun = false;
    }

    /// <summary>
    /// On a new catalogue all begin with the first fact; a follower that a later version brings begins with what is said from then on.
    /// </summary>
    private async Task BeginAsync(CancellationToken cancel)
    {
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        await using var change = await leading.BeginAsync(db, cancel);
        var known = await db.FollowerPositions.Select(f => f.Name).ToListAsync(cancel);
        var from = known.Count == 0 ? 0 : await db.Facts.MaxAsync(f => (long?)f.Id, cancel) ?? 0;
        db.FollowerPositions.AddRange(
            all.Select(f => f.Follower.Name).Except(known).Select(n => new FollowerPosition { Name = n, Position = from })
        );
        await db.SaveChangesAsync(cancel);
        await change.CommitAsync(cancel);
        begun = true;
    }

    /// <summary>Carries all that was said, and what is said meanwhile. Does nothing where another service leads.</summary>
    public async Task CarryAsync(CancellationToken cancel)
    {
        if (!leading.IsLeading)
            return;
        await gate.WaitAsync(cancel);
        try
        {
            if (!begun)
                await BeginAsync(cancel);
            bool moved;
            do
            {
                moved = false;
                var newest = await NewestAsync(cancel);
                await PassByAsync(newest, cancel);
                foreach (var follow in all)
                    while (follow.Seen < newest && await StepAsync(follow, newest, cancel))
                        moved = true;
                if (moved)
                    Moved?.Invoke();
            } while (moved);
            await TidyAsync(cancel);
        }
        catch (NotLeadingException)
        {
            // Whoever leads now goes on from the positions.
        }
        finally
        {
            gate.Release();
        }
    }

    /// <summary>Who follows nothing of what is new need not be asked.</summary>
    private async Task PassByAsync(long newest, CancellationToken cancel)
    {
        var from = all.Where(f => f.Seen >= 0 && f.FailedAt is null).Select(f => (long?)f.Seen).Min();
        if (from is null || from >= newest)
            return;
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        var kinds = (
            await db.Facts.Where(f => f.Id > from && f.Id <= newest).Select(f => f.Kind).Distinct().ToListAsync(cancel)
        ).ToHashSet();
        foreach (var follow in all.Where(f => f.Seen >= from && f.FailedAt is null && !f.Follower.Follows.Any(kinds.Contains)))
            follow.Seen = newest;
    }

    private async Task<long> NewestAsync(CancellationToken cancel)
    {
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        return await db.Facts.MaxAsync(f => (long?)f.Id, cancel) ?? 0;
    }

    /// <summary>One batch for one follower; false when there was nothing for it, or it failed.</summary>
    private async Task<bool> StepAsync(Follow follow, long newest, CancellationToken cancel)
    {
        if (follow.FailedAt is { } failed && System.Diagnostics.Stopwatch.GetElapsedTime(failed) < TriesAgainAfter)
            return false;
        try
        {
            if (await DoAsync(follow, follow.FailedAt is null ? Batch : 1, cancel) is { } upTo)
            {
                (follow.Seen, follow.FailedAt) = (upTo, null);
                return true;
            }
            follow.Seen = newest;
            return false;
        }
        catch (Exception e) when (e is not NotLeadingException && !cancel.IsCancellationRequested)
        {
            // The one that it stumbles over is found by taking them one by one.
            if (follow.FailedAt is null && !CatalogueKinds.IsRefusal(e))
            {
                follow.FailedAt = 0;
                return await StepAsync(follow, newest, cancel);
            }
            follow.FailedAt = System.Diagnostics.Stopwatch.GetTimestamp();
            log.LogError(e, "{Follower} could not do what follows from a fact; it is tried again", follow.Follower.Name);
            await NoteAsync(follow.Follower.Name, e.Message, cancel);
            return false;
        }
    }

    /// <summary>Up to which fact it has got now; null when there was nothing for it.</summary>
    private async Task<long?> DoAsync(Follow follow, int most, CancellationToken cancel)
    {
        var follower = follow.Follower;
        var outside = follower is IOutsideFollower;
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        await using var change = outside ? null : await leading.BeginAsync(db, cancel);
        var position = await db.FollowerPositions.FirstAsync(f => f.Name == follower.Name, cancel);
        var from = position.Position;
        var kinds = follower.Follows.ToArray();
        var facts = await db
            .Facts.AsNoTracking()
            .Where(f => f.Id > from && kinds.Contains(f.Kind))
            .OrderBy(f => f.Id)
            .Take(most)
            .ToListAsync(cancel);
        if (facts.Count == 0)
            return null;
        await follower.FollowAsync(db, facts, cancel);
        (position.Position, position.Problem) = (facts[^1].Id, null);
        if (outside)
        {
            await using var after = await leading.BeginAsync(db, cancel);
            await db.SaveChangesAsync(cancel);
            await after.CommitAsync(cancel);
        }
        else
        {
            await db.SaveChangesAsync(cancel);
            await change!.CommitAsync(cancel);
        }
        return facts[^1].Id;
    }

    private async Task NoteAsync(string name, string problem, CancellationToken cancel)
    {
        try
        {
            await using var db = await catalogue.CreateDbContextAsync(cancel);
            await db.FollowerPositions.Where(f => f.Name == name).ExecuteUpdateAsync(s => s.SetProperty(f => f.Problem, problem), cancel);
        }
        catch (Exception e) when (CatalogueKinds.IsRefusal(e))
        {
            // The log has it.
        }
    }

    /// <summary>
    /// Facts that everybody has followed and that are a month old go, so that no question grows with the age of the catalogue.
    /// </summary>
    private async Task TidyAsync(CancellationToken cancel)
    {
        var now = clock.Now();
        if (now >= tidied && now - tidied < TidyEvery)
            return;
        tidied = now;
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        var newest = await db.Facts.MaxAsync(f => (long?)f.Id, cancel) ?? 0;
        await using var change = await leading.BeginAsync(db, cancel);
        var names = all.Where(f => f.FailedAt is null && f.Seen >= newest).Select(f => f.Follower.Name).ToArray();
        await db
            .FollowerPositions.Where(f => names.Contains(f.Name) && f.Position < newest)
            .ExecuteUpdateAsync(s => s.SetProperty(f => f.Position, newest), cancel);
        var reached = await db.FollowerPositions.Select(f => (long?)f.Position).MinAsync(cancel) ?? 0;
        var before = now - Keeps;
        await db.Facts.Where(f => f.Id < reached && f.At < before).ExecuteDeleteAsync(cancel);
        await change.CommitAsync(cancel);
    }

    public override void Dispose()
    {
        gate.Dispose();
        base.Dispose();
    }
}
