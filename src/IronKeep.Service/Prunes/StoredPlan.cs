using IronKeep.Catalogue;
using IronKeep.Core.Prunes;
using IronKeep.Core.Quantities;
using IronKeep.Core.Retention;
using IronKeep.Core.Watching;
using IronKeep.Service.Hearing;
using NodaTime;

namespace IronKeep.Service.Prunes;

/// <summary>A plan in the form in which it is stored: words and ticks only.</summary>
internal sealed record StoredPlan(
    string Job,
    string Machine,
    string Store,
    string Policy,
    string Zone,
    int AtLeast,
    string? FreshWithin,
    long AsOf,
    bool Frozen,
    StoredVerdict[] Copies
)
{
    public static StoredPlan Of(PrunePlan p) =>
        new(
            p.Job,
            p.Machine,
            p.Store,
            p.Policy.ToString(),
            p.Guards.Zone.Id,
            p.Guards.AtLeast,
            p.Guards.FreshWithin?.ToString(),
            p.AsOf.ToUnixTimeTicks(),
            p.Frozen,
            [
                .. p.Copies.Select(c => new StoredVerdict(
                    c.Copy.Id,
                    c.Copy.Taken.ToUnixTimeTicks(),
                    c.Copy.State,
                    c.Copy.Base,
                    c.Copy.Held,
                    c.Copy.Doubted,
                    c.Verdict,
                    [.. c.Reasons],
                    c.LeavesAt?.ToUnixTimeTicks()
                )),
            ]
        );

    public RetentionPolicy ReadPolicy() => RetentionSentence.Read(Policy).Policy!;

    public RetentionGuards ReadGuards() =>
        new(
            DateTimeZoneProviders.Tzdb[Zone],
            AtLeast,
            FreshWithin is not null && Span.TryParse(FreshWithin, out var span, out _) ? span : null
        );

    public PrunePlan ToPlan() =>
        new(
            Job,
            Machine,
            Store,
            ReadPolicy(),
            ReadGuards(),
            Instant.FromUnixTimeTicks(AsOf),
            Frozen,
            [
                .. Copies.Select(c => new CopyVerdict(
                    new CopyFacts(c.Id, Instant.FromUnixTimeTicks(c.Taken), c.State, c.Base, c.Held, c.Doubted),
                    c.Verdict,
                    [.. c.Reasons],
                    c.LeavesAt is { } at ? Instant.FromUnixTimeTicks(at) : null
                )),
            ]
        );
}

internal sealed record StoredVerdict(
    string Id,
    long Taken,
    CopyState State,
    string? Base,
    string? Held,
    bool Doubted,
    Verdict Verdict,
    string[] Reasons,
    long? LeavesAt
);
