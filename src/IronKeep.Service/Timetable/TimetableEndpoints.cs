using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Forecasts;
using IronKeep.Service.Basics;
using IronKeep.Service.Charters;
using Microsoft.AspNetCore.Http.HttpResults;
using Microsoft.Extensions.Options;
using NodaTime;

namespace IronKeep.Service.Timetable;

public static class TimetableEndpoints
{
    private const int MostHours = 24 * 366;
    private const int MostEntries = 10_000;
    private const int MostYears = 2;

    public static void MapTimetable(this IEndpointRouteBuilder api)
    {
        api.MapGet(
                "/timetable",
                Results<Ok<IReadOnlyList<TimetableEntry>>, ProblemHttpResult> (
                    CharterInForce inForce,
                    TimeProvider clock,
                    IOptions<ServiceSettings> settings,
                    int hours = 48
                ) =>
                {
                    if (hours is < 1 or > MostHours)
                        return Problems.Invalid($"hours {hours} is out of range; use 1 to {MostHours}");
                    var now = clock.Now();
                    return TypedResults.Ok<IReadOnlyList<TimetableEntry>>([
                        .. Entries(inForce.Charter, now, now + Duration.FromHours(hours)),
                    ]);
                }
            )
            .WithSummary("What is due in the coming hours, at most 10000 entries");
        api.MapGet("/timetable/axis", AxisAsync)
            .WithSummary("A stretch of time with what ran and will run in it, expected ends, quiet hours and ceilings");
        api.MapGet("/timetable.ics", Results<ContentHttpResult, ProblemHttpResult> (TimetableCalendar calendar, int days = 60) =>
                days is < 1 or > TimetableCalendar.MostDays
                    ? Problems.Invalid($"days {days} is out of range; use 1 to {TimetableCalendar.MostDays}")
                    : TypedResults.Text(calendar.Write(days), TimetableCalendar.ContentType)
            )
            .WithSummary("What is due in the coming days as iCalendar (RFC 5545)")
            .Produces<string>(StatusCodes.Status200OK, "text/calendar");
    }

    /// <summary>What is due strictly after an instant up to another, in order.</summary>
    internal static IEnumerable<TimetableEntry> Entries(Charter charter, Instant after, Instant upTo) =>
        charter
            .Placed.All.SelectMany(job =>
                charter.DueTimesOf(job) is not { } times
                    ? []
                    : times
                        .Between(after, upTo)
                        .Take(MostEntries)
                        .Select(due => new TimetableEntry(
                            job.Name,
                            job.Machine,
                            due.ToDateTimeOffset(),
                            due.Rfc3339(times.Zone),
                            times.Zone.Id,
                            job.Into
                        ))
            )
            .OrderBy(e => e.Utc)
            .ThenBy(e => e.Job, StringComparer.Ordinal)
            .Take(MostEntries);

    private static async Task<Results<Ok<TimetableAxis>, ProblemHttpResult>> AxisAsync(
        TimetableAxes axes,
        KeepContext db,
        TimeProvider clock,
        CancellationToken cancel,
        DateTimeOffset? from = null,
        int hours = 24
    )
    {
        if (hours is < 1 or > TimetableAxes.MostHours)
            return Problems.Invalid($"hours {hours} is out of range; use 1 to {TimetableAxes.MostHours}");
        var now = clock.Now();
        var begin = from is { } given ? Instant.FromDateTimeOffset(given) : now;
        if (begin < now - Duration.FromDays(366 * MostYears) || begin > now + Duration.FromDays(366 * MostYears))
            return Problems.Invalid($"from {from:u} is more than {MostYears} years away");
        try
        {
            return TypedResults.Ok(await axes.MakeAsync(db, begin, hours, cancel));
        }
        catch (ForecastTooLargeException e)
        {
            return Problems.Invalid(e.Message);
        }
    }
}
