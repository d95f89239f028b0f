using System.Security.Claims;
using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Service.Basics;
using Microsoft.AspNetCore.Http.HttpResults;
using Microsoft.EntityFrameworkCore;

namespace IronKeep.Service.SignIn;

/// <summary>The people who may come in, and the sessions in which they are.</summary>
public static class PeopleEndpoints
{
    public static void MapPeople(this IEndpointRouteBuilder api)
    {
        var people = api.MapGroup("/people");
        people
            .MapGet("", async (KeepContext db, CancellationToken cancel) =>
                TypedResults.Ok<IReadOnlyList<PersonAnswer>>([
                    .. (await db.People.AsNoTracking().OrderBy(p => p.Name).ToListAsync(cancel)).Select(p => new PersonAnswer(
                        p.Name,
                        p.MadeAt.ToDateTimeOffset()
                    )),
                ])
            )
            .WithSummary("The people who may sign in");
        people
            .MapPost(
                "",
                async Task<Results<NoContent, ProblemHttpResult>> (
                    PersonRequest request,
                    People book,
                    ILogger<People> log,
                    HttpContext http,
                    CancellationToken cancel
                ) =>
                {
                    if (await book.AddAsync(request.Name, request.Password, cancel) is { } problem)
                        return Problems.Refused(problem);
                    log.LogInformation("{Person} added the person {Name}", http.User.Identity!.Name, request.Name.Trim());
                    return TypedResults.NoContent();
                }
            )
            .WithSummary("Adds a person");
        people
            .MapDelete(
                "/{name}",
                async Task<Results<NoContent, ProblemHttpResult>> (
                    string name,
                    People book,
                    ILogger<People> log,
                    HttpContext http,
                    CancellationToken cancel
                ) =>
                {
                    if (await book.RemoveAsync(name, cancel) is { } problem)
                        return Problems.Refused(problem);
                    log.LogInformation("{Person} removed the person {Name}", http.User.Identity!.Name, name);
                    return TypedResults.NoContent();
                }
            )
            .WithSummary("Removes a person with all sessions and tokens; the last one stays");
        api.MapPut(
                "/password",
                async Task<Results<NoContent, ProblemHttpResult>> (
                    PasswordRequest request,
                    People book,
                    HttpContext http,
                    CancellationToken cancel
                ) =>
                    await book.ChangePasswordAsync(
                        SignInEndpoints.PersonId(http),
                        request.Current,
                        request.Next,
                        http.User.FindFirstValue(Sessions.Claim),
                        cancel
                    )
                        is { } problem
                        ? Problems.Refused(problem)
                        : TypedResults.NoContent()
            )
            .RequireRateLimiting(SignInRules.SlowDown)
            .WithSummary("Changes your password; your other sessions end, your tokens stay");
        api.MapGet("/sessions", async (KeepContext db, HttpContext http, CancellationToken cancel) =>
            {
                var (me, mine) = (SignInEndpoints.PersonId(http), http.User.FindFirstValue(Sessions.Claim));
                return TypedResults.Ok<IReadOnlyList<BrowserSession>>([
                    .. (
                        await db.Sessions.AsNoTracking().Where(s => s.PersonId == me).OrderByDescending(s => s.SeenAt).ToListAsync(cancel)
                    ).Select(s => new BrowserSession(
                        s.Id[..12],
                        s.Address,
                        s.Program,
                        s.MadeAt.ToDateTimeOffset(),
                        s.SeenAt.ToDateTimeOffset(),
                        s.Id == mine
                    )),
                ]);
            })
            .WithSummary("The browsers in which you are signed in");
        api.MapDelete(
                "/sessions/{id}",
                async Task<Results<NoContent, ProblemHttpResult>> (
                    string id,
                    Sessions sessions,
                    KeepContext db,
                    HttpContext http,
                    CancellationToken cancel
                ) =>
                {
                    var me = SignInEndpoints.PersonId(http);
                    var whole =
                        id.Length < 12
                            ? null
                            : await db
                                .Sessions.AsNoTracking()
                                .Where(s => s.PersonId == me && s.Id.StartsWith(id))
                                .Select(s => s.Id)
                                .FirstOrDefaultAsync(cancel);
                    return whole is not null && await sessions.EndAsync(whole, me, cancel)
                        ? TypedResults.NoContent()
                        : Problems.NotThere("session", id, "sessions", words: $"you have no session '{id}'");
                }
            )
            .WithSummary("Ends one of your sessions at once");
    }
}
