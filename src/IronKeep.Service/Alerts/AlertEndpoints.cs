using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Quantities;
using IronKeep.Core.Watching;
using IronKeep.Service.Basics;
using IronKeep.Service.Copies;
using IronKeep.Service.Runs;
using Microsoft.AspNetCore.Http.HttpResults;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace IronKeep.Service.Alerts;

public static class AlertEndpoints
{
    /// <summary>How long a matter can be known at most.</summary>
    internal static readonly Duration MostKnown = Duration.FromDays(366);
    private const int MostNote = 4000;

    public static void MapAlerts(this IEndpointRouteBuilder api)
    {
        var alerts = api.MapGroup("/alerts");
        alerts
            .MapGet("", ListAsync)
            .WithSummary("Alerts, newest first; state=open gives what is not closed; find looks in what they say, a year back and more");
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
            .MapPost("/{id:long}/known", KnowAsync)
            .WithSummary("Says that a matter is known and why: nobody is told of it until then, and again afterwards if it is there still");
        alerts.MapPost("/{id:long}/notes", NoteAsync).WithSummary("Puts a person's words to an alert, open or closed");
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
                    if (!IsReason(request.Reason))
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

    /// <summary>What a person says why: 3 to 500 characters.</summary>
    private static bool IsReason(string words) => words.Trim().Length is >= 3 and <= 500;

    private static async Task<Results<Ok<AlertAnswer>, ProblemHttpResult>> KnowAsync(
        long id,
        AlertKnownRequest request,
        AlertBook book,
        KeepContext db,
        TimeProvider clock,
        HttpContext http,
        CancellationToken cancel
    )
    {
        if (!IsReason(request.Reason))
            return Problems.Invalid("say in a few words (3 to 500 characters) why nobody needs to be told");
        var now = clock.Now();
        var until = Instant.FromDateTimeOffset(request.Until);
        if (until <= now || until > now + MostKnown)
            return Problems.Invalid($"{request.Until:u} is not within the coming {MostKnown.Days} days");
        if (!await book.KnowAsync(id, http.User.Identity!.Name!, request.Reason.Trim(), until, cancel))
            return Missing(id);
        return TypedResults.Ok((await db.Alerts.AsNoTracking().FirstAsync(a => a.Id == id, cancel)).ToAnswer());
    }

    private static async Task<Results<NoContent, ProblemHttpResult>> NoteAsync(
        long id,
        AlertNoteRequest request,
        AlertBook book,
        HttpContext http,
        CancellationToken cancel
    )
    {
        if (request.Words.Trim().Length is 0 or > MostNote)
            return Problems.Invalid($"a note has 1 to {MostNote} characters");
        return await book.NoteAsync(id, http.User.Identity!.Name!, request.Words.Trim(), cancel)
            ? TypedResults.NoContent()
            : Problems.NotThere("alert", $"{id}", "alerts");
    }

    private static ProblemHttpResult Missing(long id) =>
        Problems.NotThere("alert", $"{id}", "alerts?state=open", words: $"there is no open alert {id}");

    private static async Task<Results<Ok<Page<AlertAnswer>>, ProblemHttpResult>> ListAsync(
        KeepContext db,
        CancellationToken cancel,
        string? state = null,
        string? @class = null,
        string? severity = null,
        string? job = null,
        string? machine = null,
        string? store = null,
        string? find = null,
        DateTimeOffset? since = null,
        DateTimeOffset? until = null,
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
        var grave = severity is null ? null : Kebab.Read<Severity>(severity);
        if (severity is not null && grave is null)
            return Problems.Invalid(
                $"severity '{severity}' is not known; use {string.Join(", ", Enum.GetValues<Severity>().Select(s => Kebab.Of(s)))}"
            );
        if (!Paging.TryRead(cursor, ref limit, out var before, out var problem))
            return problem;
        var query = db.Alerts.AsNoTracking().Where(a => before == null || a.Id < before);
        if (grave is not null)
            query = query.Where(a => a.Severity == grave);
        if (job is not null)
        {
            // One that a shared cause stops is named in its list, a line each.
            var line = "\n" + job + "\n";
            query = query.Where(a => a.SubjectJob == job || ("\n" + a.Affected + "\n").Contains(line));
        }
        if (machine is not null)
            query = query.Where(a => a.SubjectMachine == machine);
        if (store is not null)
            query = query.Where(a => a.SubjectStore == store);
        if (find is { Length: > 0 })
        {
            var words = string.Concat(find.ToLowerInvariant().Select(c => c is '%' or '_' or '\\' ? $"\\{c}" : $"{c}"));
            query = query.Where(a => EF.Functions.Like(a.Message.ToLower(), $"%{words}%", "\\"));
        }
        if (since is { } from)
        {
            var after = Instant.FromDateTimeOffset(from);
            query = query.Where(a => a.LastAt >= after || a.State != AlertState.Closed);
        }
        if (until is { } to)
        {
            var end = Instant.FromDateTimeOffset(to);
            query = query.Where(a => a.OpenedAt < end);
        }
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
            a.ClosedReason,
            a.Severity,
            a.KnownUntil?.ToDateTimeOffset(),
            a.KnownBy,
            a.KnownReason
        );
}
