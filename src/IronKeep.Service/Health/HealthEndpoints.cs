using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Service.Basics;
using IronKeep.Service.Catalogue;
using IronKeep.Service.Charters;
using IronKeep.Service.Clocks;
using IronKeep.Service.Runs;
using IronKeep.Service.Timetable;
using IronKeep.Yaml;
using Microsoft.AspNetCore.Http.HttpResults;
using Microsoft.Extensions.Options;

namespace IronKeep.Service.Health;

public static class HealthEndpoints
{
    /// <summary>For whoever watches the process: live says that it answers, ready that it can work. Neither tells anything else.</summary>
    public static void MapHealth(this WebApplication app)
    {
        app.MapGet("/health", () => TypedResults.Text("ok")).AllowAnonymous().ExcludeFromDescription();
        app.MapGet("/health/live", () => TypedResults.Text("ok")).AllowAnonymous().ExcludeFromDescription();
        app.MapGet("/health/ready", async (SelfCheck check, CancellationToken cancel) =>
                await check.IsReadyAsync(cancel)
                    ? Results.Text("ready")
                    : Results.Text("not ready", statusCode: StatusCodes.Status503ServiceUnavailable)
            )
            .AllowAnonymous()
            .ExcludeFromDescription();
    }

    public static void MapService(this IEndpointRouteBuilder api)
    {
        var service = api.MapGroup("/service");
        service
            .MapGet("", async (SelfCheck check, CancellationToken cancel) => TypedResults.Ok(await check.LookAsync(cancel)))
            .WithSummary("What the service finds when it looks at itself");
        service
            .MapPost(
                "/rename-machine",
                async Task<Results<Ok<RenameAnswer>, ProblemHttpResult>> (
                    RenameRequest request,
                    ClockLoop loop,
                    Dispatch dispatch,
                    KeepContext db,
                    CharterInForce inForce,
                    IOptions<ServiceSettings> settings,
                    ILogger<SelfCheck> log,
                    TimeProvider clock,
                    HttpContext http,
                    CancellationToken cancel
                ) =>
                {
                    if (!Core.Charters.CharterReader.IsName(request.Name))
                        return Problems.Invalid(
                            $"'{request.Name}' cannot be a name; use lower-case letters, digits and hyphens, at most 63"
                        );
                    using var quiet = await loop.HoldAsync(cancel);
                    if (dispatch.AtWork.Any())
                        return Problems.Refused("runs are at work on this machine; wait until they have ended, then rename it");
                    var before = settings.Value.Machine;
                    if (before == request.Name)
                        return Problems.Refused($"the machine is called '{before}' already; nothing was changed");
                    await inForce.CatchUpAsync(db, cancel);
                    if (inForce.Charter.Machines.ContainsKey(request.Name))
                        return Problems.Refused($"the charter declares a machine '{request.Name}' already; give that another name first");
                    var text = MachineRename.Of(inForce.Charter, before, request.Name);
                    var reading = CharterYaml.Read(text ?? CharterWriter.Write(inForce.Charter), request.Name);
                    if (reading.Charter is not { } charter)
                        return Problems.Refused(
                            $"the charter would not hold under the new name: {reading.Mistakes[0].Message}; change it first"
                        );
                    var revision = text is null
                        ? null
                        : new CharterRevision
                        {
                            AppliedAt = clock.Now(),
                            By = http.User.Identity!.Name!,
                            Yaml = text,
                        };
                    var number = await ServiceNames.RenameAsync(db, before, request.Name, revision, clock.Now(), cancel);
                    settings.Value.Machine = request.Name;
                    inForce.Replace(number ?? inForce.Revision, charter);
                    log.LogInformation(
                        "{Person} renamed the machine from {Before} to {Name}",
                        http.User.Identity!.Name,
                        before,
                        request.Name
                    );
                    return TypedResults.Ok(new RenameAnswer(before, request.Name));
                }
            )
            .WithSummary("Renames the machine in everything that the catalogue knows; copies, history and freshness go with it");
        service
            .MapPost(
                "/confirm-clock",
                async Task<Results<NoContent, ProblemHttpResult>> (
                    ClockWatch watch,
                    ClockLoop loop,
                    KeepContext db,
                    CancellationToken cancel
                ) =>
                {
                    using var quiet = await loop.HoldAsync(cancel);
                    return await watch.ConfirmAsync(db, cancel)
                        ? TypedResults.NoContent()
                        : Problems.Refused("the clock is not in doubt; nothing was changed");
                }
            )
            .WithSummary("Says that the time is right as it is now, after the clock has jumped");
    }
}
