using IronKeep.Contracts;
using IronKeep.Core.Schedules;
using IronKeep.Service.Charters;
using IronKeep.Service.Hosting;
using Microsoft.AspNetCore.Http.HttpResults;
using Microsoft.Extensions.Options;
using NodaTime;

namespace IronKeep.Service.Timetable;

public static class TimetableEndpoints
{
    private const int MostHours = 24 * 366;
    private const int MostEntries = 10_000;

    public static void MapTimetable(this IEndpointRouteBuilder api) =>
        api.MapGet("/timetable", Results<Ok<IReadOnlyList<TimetableEntry>>, ProblemHttpResult> (CharterInForce inForce, TimeProvider clock, IOptions<ServiceSettings> settings, int hours = 48) =>
            {
                if (hours is < 1 or > MostHours) return Problems.Invalid($"hours {hours} is out of range; use 1 to {MostHours}");
                var now = clock.Now();
                var charter = inForce.Charter;
                var entries = charter.Jobs.Values.Where(j => charter.HeadOf(j).When is not null).SelectMany(job =>
                {
                    var head = charter.HeadOf(job);
                    var zone = charter.ZoneOf(head);
                    return DueInstants.Between(head.When!, zone, now, now + Duration.FromHours(hours)).Take(MostEntries)
                        .Select(due => new TimetableEntry(job.Name, settings.Value.Machine, due.ToDateTimeOffset(), due.Local(zone), zone.Id, job.Into));
                });
                return TypedResults.Ok<IReadOnlyList<TimetableEntry>>([.. entries.OrderBy(e => e.Utc).ThenBy(e => e.Job, StringComparer.Ordinal).Take(MostEntries)]);
            })
            .WithSummary("What is due in the coming hours, at most 10000 entries");
}
