using System.Security.Claims;
using System.Text.Encodings.Web;
using Microsoft.AspNetCore.Authentication;
using Microsoft.Extensions.Options;

namespace IronKeep.Service.SignIn;

/// <summary>Signs in the bearer of a personal token: <c>Authorization: Bearer ironkeep_…</c>.</summary>
public sealed class TokenScheme(
    IOptionsMonitor<AuthenticationSchemeOptions> options,
    ILoggerFactory logger,
    UrlEncoder encoder,
    People people
) : AuthenticationHandler<AuthenticationSchemeOptions>(options, logger, encoder)
{
    public const string Name = "token";
    private const string Bearer = "Bearer ";

    protected override async Task<AuthenticateResult> HandleAuthenticateAsync()
    {
        var header = Request.Headers.Authorization.ToString();
        if (!header.StartsWith(Bearer, StringComparison.OrdinalIgnoreCase))
            return AuthenticateResult.NoResult();
        var identity = await people.FindByTokenAsync(header[Bearer.Length..].Trim(), Name, Context.RequestAborted);
        return identity is null
            ? AuthenticateResult.Fail("the token is not known")
            : AuthenticateResult.Success(new AuthenticationTicket(new ClaimsPrincipal(identity), Name));
    }

    protected override Task HandleChallengeAsync(AuthenticationProperties properties) => SignInRules.RefuseAsync(Context);
}
