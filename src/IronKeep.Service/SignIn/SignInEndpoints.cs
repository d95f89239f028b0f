using System.Globalization;
using System.Security.Claims;
using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Service.Basics;
using IronKeep.Service.Charters;
using Microsoft.AspNetCore.Antiforgery;
using Microsoft.AspNetCore.Authentication;
using Microsoft.AspNetCore.Authentication.Cookies;
using Microsoft.AspNetCore.Http.HttpResults;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.Options;

namespace IronKeep.Service.SignIn;

public static class SignInEndpoints
{
    public static void MapSignIn(this IEndpointRouteBuilder api)
    {
        api.MapPost(
                "/tokens",
                async Task<Results<Ok<TokenAnswer>, ProblemHttpResult>> (
                    TokenRequest request,
                    People people,
                    Guesses guesses,
                    HttpContext http,
                    CancellationToken cancel
                ) =>
                {
                    if (request.Label.Trim().Length is 0 or > 200)
                        return Problems.Invalid("give the token a label of 1 to 200 characters, such as the name of your machine");
                    if (guesses.WaitOf(http, request.Name) is var wait && wait > TimeSpan.Zero)
                        return TooSoon(http, wait);
                    if (await people.CheckAsync(request.Name, request.Password, cancel) is not { } person)
                    {
                        await guesses.FailedAsync(http, request.Name, cancel);
                        return Wrong();
                    }
                    guesses.Succeeded(http, request.Name);
                    var (token, secret) = await people.MakeTokenAsync(person, request.Label.Trim(), cancel);
                    return TypedResults.Ok(new TokenAnswer(token.Id, token.Label, secret));
                }
            )
            .AllowAnonymous()
            .RequireRateLimiting(SignInRules.SlowDown)
            .WithSummary("Makes a personal token from name and password");
        api.MapGet("/tokens", async (KeepContext db, HttpContext http, CancellationToken cancel) =>
            {
                var me = PersonId(http);
                return TypedResults.Ok<IReadOnlyList<TokenSummary>>([
                    .. (await db.Tokens.AsNoTracking().Where(t => t.PersonId == me).OrderBy(t => t.Id).ToListAsync(cancel)).Select(
                        t => new TokenSummary(t.Id, t.Label, t.MadeAt.ToDateTimeOffset(), t.LastUsedAt?.ToDateTimeOffset())
                    ),
                ]);
            })
            .WithSummary("Your personal tokens, without their secrets");
        api.MapDelete(
                "/tokens/{id:long}",
                async Task<Results<NoContent, ProblemHttpResult>> (long id, KeepContext db, HttpContext http, CancellationToken cancel) =>
                {
                    var me = PersonId(http);
                    var gone = await db.Tokens.Where(t => t.Id == id && t.PersonId == me).ExecuteDeleteAsync(cancel);
                    return gone > 0
                        ? TypedResults.NoContent()
                        : Problems.NotThere("token", $"{id}", "tokens", words: $"you have no token {id}");
                }
            )
            .WithSummary("Takes a token out of use at once");
        api.MapPost(
                "/first-person",
                async Task<Results<NoContent, ProblemHttpResult>> (FirstPersonRequest request, People people, CancellationToken cancel) =>
                    await people.AddFirstAsync(request.Code, request.Name, request.Password, cancel) is { } problem
                        ? Problems.Refused(problem)
                        : TypedResults.NoContent()
            )
            .AllowAnonymous()
            .RequireRateLimiting(SignInRules.SlowDown)
            .WithSummary("Makes the first person, with the one-time code of the first start");
        api.MapPeople();
        api.MapGet(
                "/session",
                (
                    HttpContext http,
                    IAntiforgery antiforgery,
                    IOptions<ServiceSettings> settings,
                    CharterInForce charter,
                    TimeProvider clock
                ) =>
                    TypedResults.Ok(
                        new SessionAnswer(
                            http.User.Identity!.Name!,
                            settings.Value.Machine,
                            typeof(SignInEndpoints).Assembly.GetName().Version!.ToString(3),
                            charter.Charter.Zone.Id,
                            clock.GetUtcNow(),
                            antiforgery.GetAndStoreTokens(http).RequestToken!
                        )
                    )
            )
            .WithSummary("Who is signed in, and the antiforgery value for changing requests with a cookie");
    }

    /// <summary>The pages before the console: plain forms, so that nothing of the console is given out before a sign-in.</summary>
    public static void MapSignInPages(this IEndpointRouteBuilder app)
    {
        app.MapGet("/sign-in", (People people, HttpContext http, IAntiforgery forgery) =>
                people.AwaitsFirst ? Results.Redirect("/first-person") : Page(SignInPages.SignIn(null), http, forgery)
            )
            .AllowAnonymous()
            .ExcludeFromDescription();
        app.MapGet("/first-person", (People people, HttpContext http, IAntiforgery forgery) =>
                people.AwaitsFirst ? Page(SignInPages.FirstPerson(null), http, forgery) : Results.Redirect("/sign-in")
            )
            .AllowAnonymous()
            .ExcludeFromDescription();
        app.MapPost("/sign-in", async (HttpContext http, People people, Guesses guesses, IAntiforgery forgery, CancellationToken cancel) =>
            {
                var form = await FormAsync(http, forgery, cancel);
                if (form is null)
                    return Page(SignInPages.SignIn("The page was too old; try once more."), http, forgery);
                var name = form["name"].ToString();
                if (guesses.WaitOf(http, name) is var wait && wait > TimeSpan.Zero)
                    return Page(
                        SignInPages.SignIn($"There were many wrong tries. Wait {Math.Ceiling(wait.TotalSeconds):0} s, then try again."),
                        http,
                        forgery,
                        StatusCodes.Status429TooManyRequests
                    );
                if (await people.CheckAsync(name, form["password"].ToString(), cancel) is not { } person)
                {
                    await guesses.FailedAsync(http, name, cancel);
                    return Page(SignInPages.SignIn("Name or password is not right."), http, forgery, StatusCodes.Status401Unauthorized);
                }
                guesses.Succeeded(http, name);
                return await LetInAsync(http, person);
            })
            .AllowAnonymous()
            .RequireRateLimiting(SignInRules.SlowDown)
            .ExcludeFromDescription();
        app.MapPost("/first-person", async (HttpContext http, People people, IAntiforgery forgery, CancellationToken cancel) =>
            {
                var form = await FormAsync(http, forgery, cancel);
                if (form is null)
                    return Page(SignInPages.FirstPerson("The page was too old; try once more."), http, forgery);
                var (name, password) = (form["name"].ToString(), form["password"].ToString());
                if (await people.AddFirstAsync(form["code"].ToString(), name, password, cancel) is { } problem)
                    return Page(SignInPages.FirstPerson(problem), http, forgery, StatusCodes.Status400BadRequest);
                return await LetInAsync(http, (await people.CheckAsync(name, password, cancel))!);
            })
            .AllowAnonymous()
            .RequireRateLimiting(SignInRules.SlowDown)
            .ExcludeFromDescription();
        app.MapPost("/sign-out", async (HttpContext http, Sessions sessions, CancellationToken cancel) =>
            {
                if (http.User.FindFirstValue(Sessions.Claim) is { } session)
                    await sessions.EndAsync(session, PersonId(http), cancel);
                await http.SignOutAsync(CookieAuthenticationDefaults.AuthenticationScheme);
                return Results.NoContent();
            })
            .ExcludeFromDescription();
    }

    private static ProblemHttpResult TooSoon(HttpContext http, TimeSpan wait)
    {
        http.Response.Headers.RetryAfter = Math.Ceiling(wait.TotalSeconds).ToString(CultureInfo.InvariantCulture);
        return Problems.Of(
            StatusCodes.Status429TooManyRequests,
            "Refused",
            $"there were many wrong tries; wait {Math.Ceiling(wait.TotalSeconds):0} s and try again"
        );
    }

    private static ProblemHttpResult Wrong() =>
        Problems.Of(StatusCodes.Status401Unauthorized, "Not signed in", "name or password is not right");

    internal static int PersonId(HttpContext http) =>
        int.Parse(http.User.FindFirstValue(ClaimTypes.NameIdentifier)!, CultureInfo.InvariantCulture);

    private static async Task<IFormCollection?> FormAsync(HttpContext http, IAntiforgery forgery, CancellationToken cancel)
    {
        if (!http.Request.HasFormContentType || !await forgery.IsRequestValidAsync(http))
            return null;
        return await http.Request.ReadFormAsync(cancel);
    }

    private static async Task<IResult> LetInAsync(HttpContext http, Person person)
    {
        var who = await http
            .RequestServices.GetRequiredService<Sessions>()
            .BeginAsync(
                person,
                http.Connection.RemoteIpAddress?.ToString() ?? "",
                http.Request.Headers.UserAgent.ToString(),
                http.RequestAborted
            );
        await http.SignInAsync(CookieAuthenticationDefaults.AuthenticationScheme, who);
        return Results.Redirect("/");
    }

    private static IResult Page(string html, HttpContext http, IAntiforgery forgery, int status = StatusCodes.Status200OK)
    {
        var tokens = forgery.GetAndStoreTokens(http);
        var hidden =
            $"<input type=\"hidden\" name=\"{tokens.FormFieldName}\" value=\"{System.Net.WebUtility.HtmlEncode(tokens.RequestToken)}\">";
        http.Response.Headers.CacheControl = "no-store";
        return Results.Content(
            html.Replace("<!--antiforgery-->", hidden, StringComparison.Ordinal),
            "text/html; charset=utf-8",
            statusCode: status
        );
    }
}
