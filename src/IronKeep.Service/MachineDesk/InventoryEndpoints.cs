using System.Globalization;
using IronKeep.Contracts;
using IronKeep.Service.Basics;
using IronKeep.Service.Definitions;
using Microsoft.AspNetCore.Http.HttpResults;

namespace IronKeep.Service.MachineDesk;

public static class InventoryEndpoints
{
    public static void MapInventories(this IEndpointRouteBuilder api)
    {
        var import = api.MapGroup("/machines-import");
        import
            .MapPost("/preview", async (ImportRequest request, InventoryDesk desk, CancellationToken cancel) =>
                TypedResults.Ok((await desk.PreviewAsync(request, cancel)).Answer)
            )
            .WithSummary("Which machines a list brings, changes and lacks; nothing is changed");
        import
            .MapPost("", ApplyAsync)
            .WithSummary("Brings the machines of a list into the charter, all or nothing; revision is that of the preview");
    }

    private static async Task<Results<Ok<ImportAnswer>, ProblemHttpResult>> ApplyAsync(
        ImportRequest request,
        InventoryDesk desk,
        HttpContext http,
        long revision,
        CancellationToken cancel,
        bool confirm = false
    )
    {
        var (answer, reading) = await desk.PreviewAsync(request, cancel);
        if (reading is null)
            return Problems.Of(
                StatusCodes.Status400BadRequest,
                "Not understood",
                $"the list cannot be taken: {answer.Mistakes[0].Message}",
                new Dictionary<string, object?> { ["mistakes"] = answer.Mistakes }
            );
        if (revision != answer.Revision)
            return Problems.Refused(
                string.Create(
                    CultureInfo.InvariantCulture,
                    $"the charter in force is revision {answer.Revision}, not {revision}: somebody applied another since; look at "
                        + $"the preview again"
                )
            );
        if (answer.Consequences.Count > 0 && !confirm)
            return CharterEndpoints.Unconfirmed(answer.Consequences);
        return await desk.ApplyAsync(reading, revision, http.User.Identity!.Name!, cancel) is { } problem
            ? Problems.Refused(problem)
            : TypedResults.Ok(answer);
    }
}
