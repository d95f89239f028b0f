using System.Collections.Immutable;
using IronKeep.Core.Retention;
using IronKeep.Core.Rotation;
using IronKeep.Core.Watching;
using NodaTime;
using NodaTime.Text;

namespace IronKeep.Core.Forecasts;

/// <summary>
/// How a played run ends: at work from start to end, left out because an earlier one was still at work, held back because the one before it
/// did not run, or missed in an outage.
/// </summary>
public enum PlayedOutcome : byte
{
    Runs,
    Overlaps,
    HeldBack,
    Missed,
    CatchUp,
}

/// <summary>
/// One planned run as it was played. <paramref name="Job"/> is an index into the forecast's jobs; a run that does not begin has Start and
/// End at its due instant.
/// </summary>
public readonly record struct PlayedRun(int Job, Instant Due, Instant Start, Instant End, PlayedOutcome Outcome);

/// <summary>
/// The life of one copy: made (or found), expired to the bin, gone when its bytes were reclaimed; null where that lies beyond the
/// span. <paramref name="Ledger"/> is an index into the forecast's ledgers; <paramref name="KnownId"/> its id if it exists already.
/// </summary>
public readonly record struct CopyLife(int Ledger, Instant Taken, Instant? Expires, Instant? Gone, string? KnownId);

/// <summary>The copies of one job in one store.</summary>
public sealed record LedgerKey(string Job, string Store);

/// <summary>
/// A store over the days: bytes used and bytes that only the bin keeps, at the end of each day; what it can hold (null: unknown)
/// and what of that must stay free.
/// </summary>
public sealed record StoreSpace(string Store, ImmutableArray<long> Used, ImmutableArray<long> InBin, long? Room, long Reserve)
{
    /// <summary>Bytes used at the as-of instant; Used begins with the end of its day.</summary>
    public long UsedNow { get; init; }
}

/// <summary>The nights of a rotation set within the span.</summary>
public sealed record SetNights(string Set, ImmutableArray<RotationNight> Nights, ImmutableArray<EnoughMedia> Enough);

/// <summary>What a forecast warns of, the gravest first.</summary>
public enum FindingKind
{
    StoreFull,
    PromiseBroken,
    MediaShort,
    NoFit,
    StartsLate,
    NeverDue,
    NeverPruned,
    NeverReclaimed,
    GoesStale,
    Storm,
    Collision,
    StoreNearlyFull,
    Unknown,
}

/// <summary>One thing that will go wrong: when first (null: it holds from the start), about what, in words, with the way out.</summary>
public sealed record Finding(FindingKind Kind, Instant? At, string Subject, string Message, string Remedy);

/// <summary>
/// What will happen: see <see cref="Forecaster.Play"/>. Days are local dates of the charter's zone; the first is that of the as-of instant.
/// </summary>
public sealed record Forecast(ForecastInput Input, ImmutableArray<LocalDate> Dates)
{
    public required ImmutableArray<string> Jobs { get; init; }
    public required ImmutableArray<LedgerKey> Ledgers { get; init; }
    public required ImmutableArray<PlayedRun> Runs { get; init; }
    public required ImmutableArray<CopyLife> Copies { get; init; }
    public required ImmutableArray<StoreSpace> Stores { get; init; }
    public required ImmutableArray<SetNights> Rotations { get; init; }
    public required ImmutableArray<Finding> Findings { get; init; }

    /// <summary>
    /// The copies that exist at an instant (in the bin too when <paramref name="inBin"/>), oldest first within each job and store.
    /// </summary>
    public IEnumerable<CopyLife> AliveAt(Instant at, bool inBin = false) =>
        Copies.Where(c => c.Taken <= at && (inBin ? c.Gone is null || c.Gone > at : c.Expires is null || c.Expires > at));

    /// <summary>
    /// Every copy of a job in a store at an instant with its verdict and reasons: what is there before the prune at that instant, as
    /// the prune sees it. Holds and states are those of today.
    /// </summary>
    public RetentionAnswer VerdictsAt(string job, string store, Instant at)
    {
        var ledger = Ledgers.IndexOf(new LedgerKey(job, store));
        var policy = Input.Charter.Policies[Input.Charter.Jobs[job].Policy];
        var known = Input.Copies.Where(c => c.Job == job && c.Store == store).ToDictionary(c => c.Facts.Id, c => c.Facts);
        var copies = Copies
            .Where(c => c.Ledger == ledger && c.Taken <= at && (c.Expires is null || c.Expires >= at))
            .Select(c =>
                c.KnownId is { } id
                    ? known[id]
                    : new CopyFacts($"planned {InstantPattern.General.Format(c.Taken)}", c.Taken, CopyState.Unchecked)
            );
        return RetentionRules.Decide(policy.Keep, new RetentionGuards(policy.Zone ?? Input.Charter.Zone, policy.AtLeast), copies, at);
    }

    /// <summary>The last instant that is played.</summary>
    public Instant End => Input.AsOf + Duration.FromDays(Input.Days);
}
