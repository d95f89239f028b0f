using IronKeep.Core.Charters;
using IronKeep.Core.Forecasts;
using IronKeep.Service.Basics;
using IronKeep.Service.Charters;
using IronKeep.Service.Forecasts;
using NodaTime;

namespace IronKeep.Service.Duty;

/// <summary>
/// What the forecast expects to go wrong in the coming night. Played in the background, for nobody who looks at Duty waits for it, and kept
/// for half an hour or until the charter changes.
/// </summary>
public sealed class Tonight(ForecastDesk desk, CharterInForce inForce, TimeProvider clock, ILogger<Tonight> log)
{
    private static readonly Duration Keeps = Duration.FromMinutes(30);
    private static readonly FindingKind[] Matters =
    [
        FindingKind.StoreFull,
        FindingKind.StoreNearlyFull,
        FindingKind.MediaShort,
        FindingKind.StartsLate,
        FindingKind.GoesStale,
        FindingKind.Collision,
        FindingKind.PromiseBroken,
    ];
    private readonly Lock gate = new();
    private volatile Played? last;
    private Task? playing;

    private sealed record Played(Charter Charter, Instant At, IReadOnlyList<Finding> Findings);

    /// <summary>What is known; null before the first play has ended. Begins another where it is old.</summary>
    public IReadOnlyList<Finding>? Findings
    {
        get
        {
            var known = last;
            if (
                known is null
                || !ReferenceEquals(known.Charter, inForce.Charter)
                || clock.Now() - known.At > Keeps
                || clock.Now() < known.At
            )
                Begin();
            return known?.Findings;
        }
    }

    /// <summary>Plays the coming night now.</summary>
    public async Task PlayAsync(CancellationToken cancel)
    {
        var (charter, now) = (inForce.Charter, clock.Now());
        var forecast = Forecaster.Play(await desk.InputAsync(charter, 2, cancel));
        var (_, end) = NightBoard.LastNight(charter.Zone, now + Duration.FromDays(1));
        last = new Played(
            charter,
            now,
            [.. forecast.Findings.Where(f => f.At > now && f.At <= end && Matters.Contains(f.Kind)).OrderBy(f => f.At)]
        );
    }

    private void Begin()
    {
        lock (gate)
        {
            if (playing is { IsCompleted: false })
                return;
            playing = Task.Run(async () =>
            {
                try
                {
                    await PlayAsync(CancellationToken.None);
                }
                catch (Exception e)
                {
                    // Whoever looks next asks again.
                    log.LogWarning(e, "The coming night could not be played");
                }
            });
        }
    }
}
