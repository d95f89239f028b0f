using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Quantities;
using IronKeep.Service.Basics;
using Microsoft.AspNetCore.Http.HttpResults;

namespace IronKeep.Service.Duty;

public static class DutyEndpoints
{
    public static void MapDuty(this IEndpointRouteBuilder api) =>
        api.MapGet("/duty", AnswerAsync)
            .WithSummary("What needs a person now, and the sums of the last night; by=job, machine or tag puts the night board together");

    private static async Task<Results<Ok<DutyAnswer>, ProblemHttpResult>> AnswerAsync(
        DutyReport report,
        KeepContext db,
        CancellationToken cancel,
        string? by = null
    )
    {
        var grouping = by is null ? null : Kebab.Read<DutyGrouping>(by);
        if (by is not null && grouping is null)
            return Problems.Invalid($"by '{by}' is not known; use job, machine or tag");
        return TypedResults.Ok(await report.MakeAsync(db, cancel, grouping));
    }
}
