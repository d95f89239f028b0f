using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Quantities;
using IronKeep.Core.Watching;
using IronKeep.Service.Basics;
using IronKeep.Service.Copies;
using IronKeep.Service.Runs;
using Microsoft.AspNetCore.Http.HttpResults;
using Microsoft.EntityFrameworkCore;

namespace IronKeep.Service.Alerts;

public static class AlertEndpoints
{
    public static void MapAlerts(this IEndpointRouteBuilder api)
    {
        var alerts = api.MapGroup("/alerts");
        alerts.MapGet("", ListAsync).WithSummary("Alerts, newest first; state=open gives what is not closed");
        alerts
            .MapPost(
                "/{id:long}/acknowledge",
                async Task<Results<Ok<AlertAnswer>, ProblemHttpResult>> (
                    long id,
                    AlertBook book,
                    KeepContext db,
                    HttpContext http,
                    CancellationToken cancel
                ) =>
                {
                    if (!await book.AcknowledgeAsync(id, http.User.Identity!.Name!, cancel))
                        return Missing(id);
                    return TypedResults.Ok((await db.Alerts.FindAsync([id], cancel))!.ToAnswer());
                }
            )
            .WithSummary("Says that a person has seen the alert");
        alerts
            .MapPost(
                "/{id:long}/close",
                async Task<Results<Ok<AlertAnswer>, ProblemHttpResult>> (
                    long id,
                    AlertCloseRequest request,
                    AlertBook book,
                    KeepContext db,
                    HttpContext http,
                    CancellationToken cancel
                ) =>
                {
                    if (request.Reason.Trim().Length is < 3 or > 500)
                        return Problems.Invalid("say in a few words (3 to 500 characters) why the alert can be closed");
                    if (!await book.CloseByAsync(id, http.User.Identity!.Name!, request.Reason.Trim(), cancel))
                        return Missing(id);
                    return TypedResults.Ok((await db.Alerts.AsNoTracking().FirstAsync(a => a.Id == id, cancel)).ToAnswer());
                }
            )
            .WithSummary(
                "Closes an alert that nothing else will close, because its job or store is gone or its remedy cannot help; the reason is "
                    + "kept"
            );
    }

    private static ProblemHttpResult Missing(long id) =>
        Problems.NotThere("alert", $"{id}", "alerts?state=open", words: $"there is no open alert {id}");

    private static async Task<Results<Ok<Page<AlertAnswer>>, ProblemHttpResult>> ListAsync(
        KeepContext db,
        CancellationToken cancel,
        string? state = null,
        string? @class = null,
        string? cursor = null,
        int limit = 100
    )
    {
        if (state is not (null or "open" or "closed"))
            return Problems.Invalid($"state '{state}' is not known; use open or closed");
        var wanted = @class is null ? null : Kebab.Read<AlertClass>(@class);
        if (@class is not null && wanted is null)
            return Problems.Invalid(
                $"class '{@class}' is not known; use {string.Join(", ", Enum.GetValues<AlertClass>().Select(c => Kebab.Of(c)))}"
            );
        if (!Paging.TryRead(cursor, ref limit, out var before, out var problem))
            return problem;
        var query = db.Alerts.AsNoTracking().Where(a => before == null || a.Id < before);
        if (wanted is not null)
            query = query.Where(a => a.Class == wanted);
        if (state == "open")
            query = query.Where(a => a.State != AlertState.Closed);
        if (state == "closed")
            query = query.Where(a => a.State == AlertState.Closed);
        var rows = await query.OrderByDescending(a => a.Id).Take(limit + 1).ToListAsync(cancel);
        return TypedResults.Ok(Paging.Page(rows, limit, a => a.Id, a => a.ToAnswer()));
    }

    public static SubjectAnswer ToAnswer(this Subject s) => new(s.Kind, s.Job, s.Machine, s.Store, s.Name, s.Words);

    public static AlertAnswer ToAnswer(this Alert a) =>
        new(
            a.Id,
            a.Subject.ToAnswer(),
            a.Class,
            a.State,
            a.Message,
            a.Remedy,
            a.Count,
            a.OpenedAt.ToDateTimeOffset(),
            a.LastAt.ToDateTimeOffset(),
            a.AcknowledgedBy,
            a.AcknowledgedAt?.ToDateTimeOffset(),
            a.ClosedAt?.ToDateTimeOffset(),
            a.RunId,
            a.Affected.Split('\n', StringSplitOptions.RemoveEmptyEntries),
            a.ClosedBy,
            a.ClosedReason
        );
}
