using System.Security.Cryptography;
using System.Text;
using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Service.Basics;
using IronKeep.Service.SignIn;
using Microsoft.AspNetCore.Http.HttpResults;
using Microsoft.EntityFrameworkCore;

namespace IronKeep.Service.Timetable;

/// <summary>
/// Calendar addresses: each holds a read-only token of its own, which opens the timetable and nothing else. Calendar programs cannot
/// send headers, so the token stands in the address; it is kept as a hash, shown once, never logged, and can be taken back.
/// </summary>
public sealed class Feeds(IDbContextFactory<KeepContext> catalogue, TimeProvider clock)
{
    /// <summary>Makes an address; its secret is only in the answer.</summary>
    public async Task<(CalendarFeed Feed, string Secret)> MakeAsync(string label, string by, CancellationToken cancel)
    {
        var secret = RandomNumberGenerator.GetHexString(48, lowercase: true);
        var feed = new CalendarFeed { Label = label, Hash = Hash(secret), MadeBy = by, MadeAt = clock.Now() };
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        db.CalendarFeeds.Add(feed);
        await db.SaveChangesAsync(cancel);
        return (feed, secret);
    }

    /// <summary>Whether an address opens, and notes that it was read.</summary>
    public async Task<bool> OpensAsync(string secret, CancellationToken cancel)
    {
        var hash = Hash(secret);
        var now = clock.Now();
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        return await db.CalendarFeeds.Where(f => f.Hash == hash).ExecuteUpdateAsync(s => s.SetProperty(f => f.LastReadAt, now), cancel) > 0;
    }

    private static byte[] Hash(string secret) => SHA256.HashData(Encoding.UTF8.GetBytes(secret));
}

public static class FeedEndpoints
{
    private const int DaysOfFeed = 60;

    public static void MapFeeds(this IEndpointRouteBuilder api)
    {
        var feeds = api.MapGroup("/timetable/feeds");
        feeds.MapGet("", async (KeepContext db, CancellationToken cancel) =>
                TypedResults.Ok<IReadOnlyList<FeedAnswer>>([.. (await db.CalendarFeeds.AsNoTracking().OrderBy(f => f.Id).ToListAsync(cancel)).Select(ToAnswer)]))
            .WithSummary("The calendar addresses that are in use");
        feeds.MapPost("", async Task<Results<Created<NewFeedAnswer>, ProblemHttpResult>> (FeedRequest request, Feeds desk, HttpContext http, CancellationToken cancel) =>
            {
                if (request.Label.Trim().Length is < 1 or > 100 || request.Label.Any(char.IsControl)) return Problems.Invalid("say in 1 to 100 characters what the calendar address is for");
                var (feed, secret) = await desk.MakeAsync(request.Label.Trim(), http.User.Identity!.Name!, cancel);
                return TypedResults.Created((string?)null, new NewFeedAnswer(ToAnswer(feed), $"/calendar/{secret}.ics"));
            })
            .WithSummary("Makes a calendar address with a read-only token of its own; it is shown once");
        feeds.MapDelete("/{id:long}", async Task<Results<NoContent, ProblemHttpResult>> (long id, KeepContext db, CancellationToken cancel) =>
                await db.CalendarFeeds.Where(f => f.Id == id).ExecuteDeleteAsync(cancel) > 0 ? TypedResults.NoContent() : Problems.NotFound($"there is no calendar address {id}; list them with GET /api/v1/timetable/feeds"))
            .WithSummary("Takes a calendar address out of use at once");
    }

    /// <summary>The address itself, for calendar programs.</summary>
    public static void MapFeedAddress(this IEndpointRouteBuilder app) =>
        app.MapGet("/calendar/{secret}.ics", async (string secret, Feeds feeds, TimetableCalendar calendar, HttpContext http, CancellationToken cancel) =>
            {
                http.Response.Headers.CacheControl = "no-store";
                return secret.Length <= 100 && await feeds.OpensAsync(secret, cancel) ? Results.Text(calendar.Write(DaysOfFeed), TimetableCalendar.ContentType)
                    : Problems.NotFound("this calendar address is not in use; make a new one in the timetable");
            })
            .AllowAnonymous().RequireRateLimiting(SignIn.SignInRules.CalendarReads).ExcludeFromDescription();

    private static FeedAnswer ToAnswer(CalendarFeed f) => new(f.Id, f.Label, f.MadeBy, f.MadeAt.ToDateTimeOffset(), f.LastReadAt?.ToDateTimeOffset());
}
