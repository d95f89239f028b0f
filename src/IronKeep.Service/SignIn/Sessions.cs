using System.Collections.Concurrent;
using System.Globalization;
using System.Security.Claims;
using System.Security.Cryptography;
using IronKeep.Catalogue;
using IronKeep.Service.Basics;
using IronKeep.Service.Events;
using Microsoft.AspNetCore.Authentication.Cookies;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace IronKeep.Service.SignIn;

/// <summary>
/// The sign-ins of browsers, in the catalogue: listed, ended by whoever owns them, and looked up at each request and every minute of a
/// stream, so that one that was ended is over at once. Tokens are looked up the same way.
/// </summary>
public sealed class Sessions(IDbContextFactory<KeepContext> catalogue, TimeProvider clock) : IStillIn
{
    public const string Claim = "ironkeep-session",
        TokenClaim = "ironkeep-token";
    public static readonly Duration Idle = Duration.FromHours(12);
    private static readonly Duration SeenIsNotedEvery = Duration.FromMinutes(1);
    private const int MostText = 200;
    private readonly ConcurrentDictionary<string, Instant> noted = new();

    /// <summary>Begins a session and gives the identity that a cookie carries.</summary>
    public async Task<ClaimsPrincipal> BeginAsync(Person person, string address, string program, CancellationToken cancel)
    {
        var now = clock.Now();
        var session = new Session
        {
            Id = RandomNumberGenerator.GetHexString(32, lowercase: true),
            PersonId = person.Id,
            Address = address,
            Program = new string([.. program.Where(c => !char.IsControl(c)).Take(MostText)]),
            MadeAt = now,
            SeenAt = now,
        };
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        // Those whose time is over go with the next that begins.
        var over = now - Idle;
        await db.Sessions.Where(s => s.SeenAt < over).ExecuteDeleteAsync(cancel);
        db.Sessions.Add(session);
        await db.SaveChangesAsync(cancel);
        var identity = People.IdentityOf(person, CookieAuthenticationDefaults.AuthenticationScheme);
        identity.AddClaim(new Claim(Claim, session.Id));
        return new ClaimsPrincipal(identity);
    }

    /// <summary>Whether whoever this is may still be in: the session was not ended, the token not taken back.</summary>
    public async Task<bool> IsStillInAsync(ClaimsPrincipal who, CancellationToken cancel)
    {
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        if (who.FindFirstValue(TokenClaim) is { } token)
            return long.TryParse(token, CultureInfo.InvariantCulture, out var id) && await db.Tokens.AnyAsync(t => t.Id == id, cancel);
        if (who.FindFirstValue(Claim) is not { } session)
            return false;
        var seen = await db.Sessions.AsNoTracking().Where(s => s.Id == session).Select(s => (Instant?)s.SeenAt).FirstOrDefaultAsync(cancel);
        var now = clock.Now();
        if (seen is not { } last || now - last > Idle)
            return false;
        if (now - Instant.Max(last, noted.GetValueOrDefault(session, Instant.MinValue)) < SeenIsNotedEvery)
            return true;
        noted[session] = now;
        try
        {
            await db.Sessions.Where(s => s.Id == session).ExecuteUpdateAsync(s => s.SetProperty(x => x.SeenAt, now), cancel);
        }
        catch (Exception e) when (CatalogueKinds.IsRefusal(e))
        {
            // A catalogue that takes nothing can still be read.
        }
        return true;
    }

    /// <summary>Ends a session of a person; false when there is none.</summary>
    public async Task<bool> EndAsync(string id, int personId, CancellationToken cancel)
    {
        noted.TryRemove(id, out _);
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        return await db.Sessions.Where(s => s.Id == id && s.PersonId == personId).ExecuteDeleteAsync(cancel) > 0;
    }
}
