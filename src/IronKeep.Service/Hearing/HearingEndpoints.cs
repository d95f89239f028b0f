using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Quantities;
using IronKeep.Core.Schedules;
using IronKeep.Core.Watching;
using IronKeep.Core.Watching.Logs;
using IronKeep.Service.Basics;
using IronKeep.Service.Charters;
using Microsoft.AspNetCore.Http.HttpResults;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.Options;
using NodaTime;

namespace IronKeep.Service.Hearing;

public static class HearingEndpoints
{
    /// <summary>Check-ins by people and their programs, and the addresses of jobs.</summary>
    public static void MapHearing(this IEndpointRouteBuilder api)
    {
        var jobs = api.MapGroup("/jobs/{name}");
        jobs.MapPost("/check-ins", CheckInAsync).WithSummary("A watched job says that it started, or ended and how");
        jobs.MapGet("/log-rules", Results<ContentHttpResult, ProblemHttpResult> (string name, string? on, CharterInForce charter) =>
                Watched(charter, name, on, out var job) is { } problem
                    ? problem
                    : TypedResults.Text(CheckInReports.RulesOf(charter.Charter, job))
            )
            .WithSummary("The rules by which a watched job is judged, as they stand in a file for 'try log'; empty where it has none");
        jobs.MapGet(
                "/check-in-address",
                async Task<Results<Ok<CheckInAddressAnswer>, ProblemHttpResult>> (
                    string name,
                    string? on,
                    CharterInForce charter,
                    KeepContext db,
                    IOptions<ServiceSettings> settings,
                    CancellationToken cancel
                ) =>
                {
                    if (Watched(charter, name, on, out var job) is { } problem)
                        return problem;
                    var machine = job.Machine;
                    return
                        await db.CheckInAddresses.AsNoTracking().FirstOrDefaultAsync(a => a.Job == name && a.Machine == machine, cancel)
                            is { } at
                        ? TypedResults.Ok(Answer(at, null))
                        : Problems.NotFound($"job {name} has no check-in address; make one with 'ironkeep job address {name}'");
                }
            )
            .WithSummary("When a job's check-in address was made, by whom, and when it was last heard");
        jobs.MapPost(
                "/check-in-address",
                async Task<Results<Created<CheckInAddressAnswer>, ProblemHttpResult>> (
                    string name,
                    string? on,
                    CharterInForce charter,
                    CheckInAddresses addresses,
                    IOptions<ServiceSettings> settings,
                    HttpContext http,
                    CancellationToken cancel
                ) =>
                {
                    if (Watched(charter, name, on, out var job) is { } problem)
                        return problem;
                    var (address, secret) = await addresses.MakeAsync(name, job.Machine, http.User.Identity!.Name!, cancel);
                    return TypedResults.Created((string?)null, Answer(address, $"/check-in/{secret}"));
                }
            )
            .WithSummary("Makes the secret address at which a watched job checks in; the one before is out of use. It is shown once");
        jobs.MapDelete(
                "/check-in-address",
                async Task<Results<NoContent, ProblemHttpResult>> (
                    string name,
                    string? on,
                    CharterInForce charter,
                    CheckInAddresses addresses,
                    IOptions<ServiceSettings> settings,
                    CancellationToken cancel
                ) =>
                    WhichJob.Of(charter.Charter, name, on, out _) is { } job && await addresses.TakeBackAsync(name, job.Machine, cancel)
                        ? TypedResults.NoContent()
                        : Problems.NotFound($"job {name} has no check-in address")
            )
            .WithSummary("Takes a job's check-in address out of use at once");
    }

    /// <summary>The addresses themselves: for any program that can fetch an address. Whoever has none learns nothing.</summary>
    public static void MapCheckInAddress(this IEndpointRouteBuilder app)
    {
        app.MapMethods(
                "/check-in/{secret}/{what?}",
                ["GET", "HEAD", "POST"],
                async (
                    string secret,
                    string? what,
                    CheckInAddresses addresses,
                    HearingDesk desk,
                    TimeProvider clock,
                    HttpContext http,
                    CancellationToken cancel
                ) =>
                {
                    http.Response.Headers.CacheControl = "no-store";
                    if (await addresses.OfAsync(secret, cancel) is not var (id, job, machine))
                        return Results.NotFound();
                    if (what == "rules" && HttpMethods.IsGet(http.Request.Method))
                        return Results.Text(
                            http.RequestServices.GetRequiredService<CharterInForce>().Charter is var rules
                            && rules.Placed.Find(job, machine) is { } of
                                ? CheckInReports.RulesOf(rules, of)
                                : ""
                        );
                    if (!addresses.MaySpeak(secret))
                    {
                        http.Response.Headers.RetryAfter = "5";
                        return Results.Text(
                            $"job {job} on {machine} checks in more often than once a second; wait 5 s, and look what calls this address\n",
                            statusCode: StatusCodes.Status429TooManyRequests
                        );
                    }
                    if (SpokenCheckIn.Read(what ?? "") is not var (state, code))
                        return Results.Text(
                            $"'{what}' is not known here; end the address with /start, /ok, /failed or an exit code from 0 to 255\n",
                            statusCode: StatusCodes.Status400BadRequest
                        );
                    if (http.Request.HasJsonContentType())
                        return await DeliverAsync(id, job, machine, desk, clock, http, cancel);
                    var (log, cut) = await SpokenCheckIn.LogAsync(http.Request, cancel);
                    var taken = await desk.TakeAsync(
                        new Report(job, machine, EvidenceSource.CheckIn, state, clock.Now())
                        {
                            Address = id,
                            ExitCode = code,
                            Figures = SpokenCheckIn.Figures(http.Request.Query),
                            Log = log,
                            LogCut = cut,
                            Id = Identity(http),
                        },
                        cancel
                    );
                    return Results.Text($"{Say(job, machine, state, taken)}\n");
                }
            )
            .AllowAnonymous()
            .DisableAntiforgery()
            .ExcludeFromDescription();
    }

    /// <summary>One that is sent again with the same key counts once.</summary>
    private static string? Identity(HttpContext http) =>
        http.Request.Headers["Idempotency-Key"].ToString() is { Length: > 0 and <= 100 } key ? key : null;

    private static async Task<IResult> DeliverAsync(
        long address,
        string job,
        string machine,
        HearingDesk desk,
        TimeProvider clock,
        HttpContext http,
        CancellationToken cancel
    )
    {
        var request = await http.Request.ReadFromJsonAsync<CheckInRequest>(ContractJson.Options, cancel);
        if (request is null || CheckInReports.Problem(request) is not null)
            return Results.Text(
                $"{CheckInReports.Problem(request!) ?? "the request says nothing"}\n",
                statusCode: StatusCodes.Status400BadRequest
            );
        var taken = await desk.TakeAsync(CheckInReports.Of(job, machine, request, clock.Now()) with { Address = address }, cancel);
        return Results.Json(
            new CheckInAnswer(job, taken.Due?.ToDateTimeOffset(), taken.Outcome, taken.Sentence, taken.RunId),
            ContractJson.Options
        );
    }

    private static string Say(string job, string machine, CheckInState state, Taken taken) =>
        taken.RunId is null
            ? $"the charter has no job {job} any more"
            : $"{job} on {machine}: "
                + $"{(state == CheckInState.Started ? "started" : $"ended {Core.Quantities.Kebab.Of(taken.Outcome ?? Outcome.Ok)}")}, run "
                + $"{taken.RunId}";

    private static async Task<Results<Ok<CheckInAnswer>, ProblemHttpResult>> CheckInAsync(
        string name,
        string? on,
        CheckInRequest request,
        CharterInForce charter,
        HearingDesk desk,
        TimeProvider clock,
        IOptions<ServiceSettings> settings,
        CancellationToken cancel
    )
    {
        if (Watched(charter, name, on, out var job) is { } problem)
            return problem;
        if (CheckInReports.Problem(request) is { } wrong)
            return Problems.Invalid(wrong);
        var taken = await desk.TakeAsync(CheckInReports.Of(name, job.Machine, request, clock.Now()), cancel);
        return TypedResults.Ok(new CheckInAnswer(name, taken.Due?.ToDateTimeOffset(), taken.Outcome, taken.Sentence, taken.RunId));
    }

    private static ProblemHttpResult? Watched(CharterInForce charter, string name, string? on, out PlacedJob job)
    {
        job = WhichJob.Of(charter.Charter, name, on, out var problem)!;
        if (problem is not null)
            return problem;
        return job.Watched
            ? null
            : Problems.Of(
                StatusCodes.Status409Conflict,
                "Refused",
                $"job {name} is carried out by the service itself, which knows how it ended; only watched jobs check in",
                ProblemCodes.NotWatched,
                "nothing needs to be done",
                (ProblemCodes.Kind, "job"),
                (ProblemCodes.Name, name)
            );
    }

    private static CheckInAddressAnswer Answer(CheckInAddress a, string? path) =>
        new(a.Job, a.Machine, path, a.MadeBy, a.MadeAt.ToDateTimeOffset(), a.LastHeardAt?.ToDateTimeOffset());
}
