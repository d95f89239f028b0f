using IronKeep.Catalogue;

namespace IronKeep.Service.Duty;

public static class DutyEndpoints
{
    public static void MapDuty(this IEndpointRouteBuilder api) =>
        api.MapGet("/duty", async (DutyReport report, KeepContext db, CancellationToken cancel) =>
                TypedResults.Ok(await report.MakeAsync(db, cancel))
            )
            .WithSummary("What needs a person now, and the sums of the last night");
}
