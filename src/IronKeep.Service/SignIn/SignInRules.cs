using System.Threading.RateLimiting;
using IronKeep.Contracts;
using IronKeep.Service.Basics;
using IronKeep.Service.Events;
using Microsoft.AspNetCore.Antiforgery;
using Microsoft.AspNetCore.Authentication;
using Microsoft.AspNetCore.Authentication.Cookies;
using Microsoft.AspNetCore.Authorization;
using Microsoft.AspNetCore.DataProtection;
using Microsoft.AspNetCore.DataProtection.KeyManagement;
using Microsoft.Extensions.Options;

namespace IronKeep.Service.SignIn;

/// <summary>
/// The rules of coming in: a cookie for the console, a personal token for the client, and nothing without one of them but the
/// sign-in page and the bare health endpoint. Changing requests with a cookie need the antiforgery header.
/// </summary>
public static class SignInRules
{
    public const string AntiforgeryHeader = "X-Ironkeep-Antiforgery";
    public const string SlowDown = "sign-in";
    public const string CalendarReads = "calendar";
    private const string Either = "either";
    private const int TriesAMinute = 120;
    private const int CalendarReadsAMinute = 60;

    public static void AddSignIn(this IServiceCollection services, bool keeps)
    {
        services.AddSingleton<People>();
        services.AddSingleton<Sessions>();
        services.AddSingleton<IStillIn>(s => s.GetRequiredService<Sessions>());
        services.AddSingleton<Guesses>();
        services.AddSingleton<SealingKeys>();
        services.AddDataProtection().SetApplicationName("ironkeep");
        if (keeps)
            services.AddSingleton<IConfigureOptions<KeyManagementOptions>>(s => new ConfigureOptions<KeyManagementOptions>(o =>
                o.XmlRepository = s.GetRequiredService<SealingKeys>()
            ));
        services.AddAntiforgery(o =>
        {
            o.HeaderName = AntiforgeryHeader;
            o.Cookie.Name = "ironkeep.antiforgery";
            o.Cookie.SameSite = SameSiteMode.Strict;
            o.Cookie.SecurePolicy = CookieSecurePolicy.SameAsRequest;
        });
        services
            .AddAuthentication(Either)
            .AddPolicyScheme(Either, null, o =>
                o.ForwardDefaultSelector = http =>
                    http.Request.Headers.ContainsKey("Authorization") ? TokenScheme.Name : CookieAuthenticationDefaults.AuthenticationScheme
            )
            .AddScheme<AuthenticationSchemeOptions, TokenScheme>(TokenScheme.Name, null)
            .AddCookie(o =>
            {
                o.Cookie.Name = "ironkeep.session";
                o.Cookie.HttpOnly = true;
                o.Cookie.SameSite = SameSiteMode.Strict;
                o.Cookie.SecurePolicy = CookieSecurePolicy.SameAsRequest;
                o.ExpireTimeSpan = Sessions.Idle.ToTimeSpan();
                o.SlidingExpiration = true;
                // What the cookie says holds only as long as its session is in the catalogue.
                o.Events.OnValidatePrincipal = async context =>
                {
                    if (
                        await context
                            .HttpContext.RequestServices.GetRequiredService<Sessions>()
                            .IsStillInAsync(context.Principal!, context.HttpContext.RequestAborted)
                    )
                        return;
                    context.RejectPrincipal();
                    await context.HttpContext.SignOutAsync(CookieAuthenticationDefaults.AuthenticationScheme);
                };
                o.Events.OnRedirectToLogin = context => RefuseAsync(context.HttpContext);
                o.Events.OnRedirectToAccessDenied = context => RefuseAsync(context.HttpContext);
            });
        services.AddAuthorizationBuilder().SetFallbackPolicy(new AuthorizationPolicyBuilder().RequireAuthenticatedUser().Build());
        services.AddRateLimiter(o =>
        {
            o.RejectionStatusCode = StatusCodes.Status429TooManyRequests;
            o.OnRejected = async (context, _) =>
                await Problems
                    .Of(StatusCodes.Status429TooManyRequests, "Refused", "too many tries within a minute; wait a minute and try again")
                    .ExecuteAsync(context.HttpContext);
            // Passwords have delays of their own (see Guesses); this only bounds what hashing them costs.
            o.AddPolicy(SlowDown, http =>
                RateLimitPartition.GetFixedWindowLimiter(
                    http.RequestServices.GetRequiredService<Guesses>().PartitionOf(http),
                    _ => new FixedWindowRateLimiterOptions { PermitLimit = TriesAMinute, Window = TimeSpan.FromMinutes(1) }
                )
            );
            o.AddPolicy(CalendarReads, http =>
                RateLimitPartition.GetFixedWindowLimiter(
                    http.Connection.RemoteIpAddress?.ToString() ?? "",
                    _ => new FixedWindowRateLimiterOptions { PermitLimit = CalendarReadsAMinute, Window = TimeSpan.FromMinutes(1) }
                )
            );
        });
    }

    /// <summary>An API call gets 401 with the way out; a browser that asks for a page is led to the sign-in page.</summary>
    public static Task RefuseAsync(HttpContext http)
    {
        var wantsPage =
            HttpMethods.IsGet(http.Request.Method)
            && !http.Request.Path.StartsWithSegments("/api")
            && http.Request.Headers.Accept.ToString().Contains("text/html");
        if (!wantsPage)
            return Problems
                .Of(
                    StatusCodes.Status401Unauthorized,
                    "Not signed in",
                    "nobody is signed in",
                    ProblemCodes.SignInNeeded,
                    "send a personal token as 'Authorization: Bearer …' (POST /api/v1/tokens makes one), or sign in at /sign-in"
                )
                .ExecuteAsync(http);
        http.Response.Redirect("/sign-in");
        return Task.CompletedTask;
    }

    /// <summary>
    /// Refuses changing requests that come with a cookie but without the antiforgery value, as another site's form would.
    /// </summary>
    public static async Task GuardAgainstForgeryAsync(HttpContext http, RequestDelegate next)
    {
        var method = http.Request.Method;
        var safe = HttpMethods.IsGet(method) || HttpMethods.IsHead(method) || HttpMethods.IsOptions(method);
        var byCookie =
            http.User.Identity is { IsAuthenticated: true, AuthenticationType: CookieAuthenticationDefaults.AuthenticationScheme };
        if (!safe && byCookie && !await http.RequestServices.GetRequiredService<IAntiforgery>().IsRequestValidAsync(http))
        {
            await Problems
                .Of(
                    StatusCodes.Status400BadRequest,
                    "Not understood",
                    "this page is out of date",
                    ProblemCodes.PageOutOfDate,
                    $"the header {AntiforgeryHeader} is missing or out of date; GET /api/v1/session has its value"
                )
                .ExecuteAsync(http);
            return;
        }
        await next(http);
    }
}
