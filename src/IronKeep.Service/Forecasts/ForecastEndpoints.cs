using System.Collections.Immutable;
using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Forecasts;
using IronKeep.Core.Quantities;
using IronKeep.Core.Rotation;
using IronKeep.Core.Schedules;
using IronKeep.Core.Watching;
using IronKeep.Service.Basics;
using IronKeep.Service.Charters;
using IronKeep.Service.Copies;
using IronKeep.Service.Hearing;
using IronKeep.Service.Stores;
using IronKeep.Service.Timetable;
using IronKeep.Yaml;
using Microsoft.AspNetCore.Http.HttpResults;
using NodaTime;
using NodaTime.Text;

namespace IronKeep.Service.Forecasts;

public static class ForecastEndpoints
{
    private const int MostDates = 24;

    public static void MapForecasts(this IEndpointRouteBuilder api)
    {
        api.MapPost("/forecast", ForecastAsync)
            .WithSummary("Plays a charter forward: runs, copies, space, media, and what will go wrong; nothing is changed");
        api.MapPost("/forecast/copies", CopiesOnAsync)
            .WithSummary("The copies of a job in a store on a date to come, each with its verdict and reasons");
        api.MapPost("/charter/compare", CompareAsync)
            .WithSummary("What exists under one charter and not under the other; nothing is changed");
    }

    private static async Task<Results<Ok<ForecastAnswer>, ProblemHttpResult>> ForecastAsync(
        ForecastRequest request,
        ForecastDesk desk,
        CharterInForce inForce,
        CancellationToken cancel
    )
    {
        if (request.Days is < 1 or > ForecastInput.MostDays)
            return Problems.Invalid($"days {request.Days} is out of range; use 1 to {ForecastInput.MostDays}");
        if (request.Outage is { } outage && outage.To <= outage.From)
            return Problems.Invalid("the outage ends before it begins; turn its instants round");
        var (charter, mistaken) = CharterOf(request.Yaml, inForce);
        if (charter is null)
            return mistaken!;
        var input = await desk.InputAsync(charter, request.Days, cancel) with
        {
            PrunesByHandToo = request.PrunesByHandToo,
            Outage = request.Outage is { } o ? new Outage(Instant.FromDateTimeOffset(o.From), Instant.FromDateTimeOffset(o.To)) : null,
        };
        return Played(input, out var forecast) is { } refused ? refused : TypedResults.Ok(ToAnswer(forecast!));
    }

    private static async Task<Results<Ok<PolicyEffectAnswer>, ProblemHttpResult>> CopiesOnAsync(
        CopiesOnRequest request,
        ForecastDesk desk,
        CharterInForce inForce,
        TimeProvider clock,
        CancellationToken cancel
    )
    {
        var (charter, mistaken) = CharterOf(request.Yaml, inForce);
        if (charter is null)
            return mistaken!;
        if (charter.Placed.All.FirstOrDefault(j => j.Words == request.Job) is not { Into.Length: > 0 } job)
            return Problems.NotFound($"the charter has no job '{request.Job}' that makes copies");
        var store = request.Store ?? job.Into[0];
        if (!job.Into.Contains(store))
            return Problems.Invalid($"job {job.Name} does not go into store '{store}'; it goes into {string.Join(" and ", job.Into)}");
        var on = Instant.FromDateTimeOffset(request.On);
        var days = (int)Math.Ceiling((on - clock.Now()).TotalDays);
        if (days is < 1 or > ForecastInput.MostDays)
            return Problems.Invalid($"on {request.On:u} is out of range; it lies 1 to {ForecastInput.MostDays} days ahead");
        if (
            Played(await desk.InputAsync(charter, days, cancel) with { PrunesByHandToo = request.PrunesByHandToo }, out var forecast) is
            { } refused
        )
            return refused;
        return TypedResults.Ok(forecast!.VerdictsAt(job.Name, store, on).Copies.ToEffect(job.Name, store));
    }

    private static async Task<Results<Ok<ComparisonAnswer>, ProblemHttpResult>> CompareAsync(
        CompareRequest request,
        ForecastDesk desk,
        CharterInForce inForce,
        TimeProvider clock,
        CancellationToken cancel
    )
    {
        var (before, wrongBefore) = CharterOf(request.Before, inForce);
        if (before is null)
            return wrongBefore!;
        var (after, wrongAfter) = CharterOf(request.After, inForce);
        if (after is null)
            return wrongAfter!;
        var now = clock.Now();
        var dates = request.Dates is { Count: > 0 } given
            ? given.Select(Instant.FromDateTimeOffset).ToList()
            : Comparison.UsualDates.Select(s => s.After(now, after.Zone)).ToList();
        var days = (int)Math.Ceiling((dates.Max() - now).TotalDays);
        if (dates.Count > MostDates || dates.Min() <= now || days > ForecastInput.MostDays)
            return Problems.Invalid($"give 1 to {MostDates} dates, each ahead of now and at most {ForecastInput.MostDays} days away");
        // Played with prunes by hand too, so that the policies show and not who carries them out.
        if (Played(await desk.InputAsync(before, days, cancel) with { PrunesByHandToo = true }, out var was) is { } refused)
            return refused;
        if (
            Played(await desk.InputAsync(after, days, cancel) with { PrunesByHandToo = true, AsOf = was!.Input.AsOf }, out var becomes) is
            { } refusedToo
        )
            return refusedToo;
        var compared = Comparison.Of(was, becomes!, dates);
        return TypedResults.Ok(
            new ComparisonAnswer(
                was.Input.AsOf.ToDateTimeOffset(),
                CharterAnswers.ToAnswers(CharterDiff.Compare(before, after)),
                [
                    .. compared.Dates.Select(d => new ComparedDateAnswer(
                        d.At.ToDateTimeOffset(),
                        [
                            .. d.Places.Select(p => new PlaceOnAnswer(
                                p.Job,
                                p.Store,
                                p.Before,
                                p.After,
                                Times(p.OnlyBefore),
                                Times(p.OnlyAfter)
                            )),
                        ],
                        [.. d.Stores.Select(s => new StoreOnAnswer(s.Store, s.Before, s.After))]
                    )),
                ],
                [.. compared.AtOnce.Select(c => new AtOnceAnswer(c.Job, c.Store, c.CopyId, c.Taken.ToDateTimeOffset(), c.Reasons))],
                [.. compared.Media.Select(m => new MediaUseAnswer(m.Set, m.Before, m.After, m.ShortBefore, m.ShortAfter))],
                ToAnswers(compared.OnlyBefore),
                ToAnswers(compared.OnlyAfter)
            )
        );

        static List<DateTimeOffset> Times(ImmutableArray<Instant> instants) => [.. instants.Select(i => i.ToDateTimeOffset())];
    }

    private static (Charter? Charter, ProblemHttpResult? Mistaken) CharterOf(string? yaml, CharterInForce inForce)
    {
        if (yaml is null)
            return (inForce.Charter, null);
        // Places on this machine do not matter to a play, so a charter for elsewhere can be played too.
        var reading = CharterYaml.Read(yaml, inForce.Charter.Own);
        return (reading.Charter, reading.Charter is null ? CharterAnswers.Mistaken(reading) : null);
    }

    private static ProblemHttpResult? Played(ForecastInput input, out Forecast? forecast)
    {
        try
        {
            forecast = Forecaster.Play(input);
            return null;
        }
        catch (ForecastTooLargeException e)
        {
            forecast = null;
            return Problems.Invalid(e.Message);
        }
    }

    private static ForecastAnswer ToAnswer(Forecast f)
    {
        var runs = f.Runs.ToLookup(r => r.Job);
        var now = f.AliveAt(f.Input.AsOf).ToLookup(c => f.Ledgers[c.Ledger].Job);
        var atEnd = f.AliveAt(f.End).ToLookup(c => f.Ledgers[c.Ledger].Job);
        return new ForecastAnswer(
            f.Input.AsOf.ToDateTimeOffset(),
            f.Input.Days,
            f.Input.Charter.Zone.Id,
            f.Runs.Length,
            [.. f.Dates.Select(LocalDatePattern.Iso.Format)],
            ToAnswers(f.Findings),
            [.. f.Stores.Select(s => new StoreForecastAnswer(s.Store, s.UsedNow, s.Used, s.InBin, s.Room, s.Reserve))],
            [.. f.Rotations.Select(r => r.ToAnswer(f.Input.Charter))],
            [
                .. f.Jobs.Select(
                    (name, i) =>
                    {
                        var assumed = f.Input.Jobs.GetValueOrDefault(name) ?? JobAssumptions.Unknown;
                        var limit = f.Input.Charter.Jobs[name].StartLimit.ToDuration();
                        return new JobForecastAnswer(
                            name,
                            Kebab.Of(assumed.From),
                            assumed.WholeBytes,
                            assumed.ChangeBytes,
                            assumed.GrowthPerDay,
                            assumed.Takes.TotalSeconds,
                            runs[i].Count(),
                            runs[i].Count(r => r.Start - r.Due > limit),
                            runs[i].Count(r => r.Outcome is PlayedOutcome.Overlaps or PlayedOutcome.HeldBack or PlayedOutcome.Missed),
                            now[name].Count(),
                            atEnd[name].Count()
                        );
                    }
                ),
            ]
        );
    }

    private static List<FindingAnswer> ToAnswers(ImmutableArray<Finding> findings) =>
        [.. findings.Select(x => new FindingAnswer(x.Kind, x.At?.ToDateTimeOffset(), x.Subject, x.Message, x.Remedy))];
}
