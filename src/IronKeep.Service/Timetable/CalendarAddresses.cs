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
public sealed class CalendarAddresses(IDbContextFactory<KeepContext> catalogue, TimeProvider clock)
{
    /// <summary>Makes an address; its secret is only in the answer.</summary>
    public async Task<(CalendarAddress Address, string Secret)> MakeAsync(string label, string by, CancellationToken cancel)
    {
        var secret = RandomNumberGenerator.GetHexString(48, lowercase: true);
        var address = new CalendarAddress
        {
            Label = label,
            Hash = Hash(secret),
            MadeBy = by,
            MadeAt = clock.Now(),
        };
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        db.CalendarAddresses.Add(address);
        await db.SaveChangesAsync(cancel);
        return (address, secret);
    }

    /// <summary>Whether an address opens, and notes that it was read.</summary>
    public async Task<bool> OpensAsync(string secret, CancellationToken cancel)
    {
        var hash = Hash(secret);
        var now = clock.Now();
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        return await db.CalendarAddresses.Where(f => f.Hash == hash).ExecuteUpdateAsync(s => s.SetProperty(f => f.LastReadAt, now), cancel)
            > 0;
    }

    private static byte[] Hash(string secret) => SHA256.HashData(Encoding.UTF8.GetBytes(secret));
}

public static class CalendarAddressEndpoints
{
    private const int DaysShown = 60;

    public static void MapCalendarAddresses(this IEndpointRouteBuilder api)
    {
        var addresses = api.MapGroup("/timetable/addresses");
        addresses
            .MapGet("", async (KeepContext db, CancellationToken cancel) =>
                TypedResults.Ok<IReadOnlyList<CalendarAddressAnswer>>([
                    .. (await db.CalendarAddresses.AsNoTracking().OrderBy(f => f.Id).ToListAsync(cancel)).Select(ToAnswer),
                ])
            )
            .WithSummary("The calendar addresses that are in use");
        addresses
            .MapPost(
                "",
                async Task<Results<Created<NewCalendarAddressAnswer>, ProblemHttpResult>> (
                    CalendarAddressRequest request,
                    CalendarAddresses desk,
                    HttpContext http,
                    CancellationToken cancel
                ) =>
                {
                    if (request.Label.Trim().Length is < 1 or > 100 || request.Label.Any(char.IsControl))
                        return Problems.Invalid("say in 1 to 100 characters what the calendar address is for");
                    var (address, secret) = await desk.MakeAsync(request.Label.Trim(), http.User.Identity!.Name!, cancel);
                    return TypedResults.Created((string?)null, new NewCalendarAddressAnswer(ToAnswer(address), $"/calendar/{secret}.ics"));
                }
            )
            .WithSummary("Makes a calendar address with a read-only token of its own; it is shown once");
        addresses
            .MapDelete(
                "/{id:long}",
                async Task<Results<NoContent, ProblemHttpResult>> (long id, KeepContext db, CancellationToken cancel) =>
                    await db.CalendarAddresses.Where(f => f.Id == id).ExecuteDeleteAsync(cancel) > 0
                        ? TypedResults.NoContent()
                        : Problems.NotThere("calendar address", $"{id}", "timetable/addresses", words: $"there is no calendar address {id}")
            )
            .WithSummary("Takes a calendar address out of use at once");
    }

    /// <summary>The address itself, for calendar programs.</summary>
    public static void MapCalendarAddress(this IEndpointRouteBuilder app) =>
        app.MapGet(
                "/calendar/{secret}.ics",
                async (
                    string secret,
                    CalendarAddresses addresses,
                    TimetableCalendar calendar,
                    HttpContext http,
                    CancellationToken cancel
                ) =>
                {
                    http.Response.Headers.CacheControl = "no-store";
                    return secret.Length <= 100 && await addresses.OpensAsync(secret, cancel)
                        ? Results.Text(calendar.Write(DaysShown), TimetableCalendar.ContentType)
                        : Problems.NotFound("this calendar address is not in use; make a new one in the timetable");
                }
            )
            .AllowAnonymous()
            .RequireRateLimiting(SignIn.SignInRules.CalendarReads)
            .ExcludeFromDescription();

    private static CalendarAddressAnswer ToAnswer(CalendarAddress f) =>
        new(f.Id, f.Label, f.MadeBy, f.MadeAt.ToDateTimeOffset(), f.LastReadAt?.ToDateTimeOffset());
}
