using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Machines;
using IronKeep.Core.Quantities;
using IronKeep.Service.Basics;
using IronKeep.Service.Charters;
using IronKeep.Service.Duty;
using IronKeep.Service.Machines;
using Microsoft.AspNetCore.Http.HttpResults;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.Options;

namespace IronKeep.Service.MachineDesk;

public static class MachineEndpoints
{
    private const int MostReason = 500;

    public static void MapMachines(this IEndpointRouteBuilder api)
    {
        var machines = api.MapGroup("/machines");
        machines
            .MapGet(
                "",
                async Task<Results<Ok<MachinesAnswer>, ProblemHttpResult>> (
                    MachineList list,
                    AgentListening listening,
                    CancellationToken cancel,
                    string? coverage = null
                ) =>
                {
                    Coverage? only = null;
                    if (coverage is not null && (only = Kebab.Read<Coverage>(coverage)) is null)
                        return Problems.Invalid(
                            $"coverage '{coverage}' is not known; use {string.Join(", ", Enum.GetValues<Coverage>().Select(c => c.Word()))}"
                        );
                    var all = await list.AllAsync(cancel);
                    return TypedResults.Ok(
                        new MachinesAnswer(listening.Address, only is null ? all : [.. all.Where(m => m.Coverage.Class == only)])
                    );
                }
            )
            .WithSummary("The machines that the charter declares, that jobs name, or that have an agent, by how they are protected");
        machines
            .MapGet(
                "/{name}",
                async Task<Results<Ok<MachineAnswer>, ProblemHttpResult>> (string name, MachineList list, CancellationToken cancel) =>
                    (await list.AllAsync(cancel)).FirstOrDefault(m => m.Name == name) is { } machine
                        ? TypedResults.Ok(machine)
                        : Problems.NotThere("machine", name, "machines")
            )
            .WithSummary("A machine");
        machines
            .MapPost("/{name}/enrolment", EnrolAsync)
            .WithSummary("Makes a code, good once and for an hour, with which a machine joins");
        machines
            .MapPost("/{name}/shut-out", ShutOutAsync)
            .WithSummary("Takes a machine's right to speak away at once, and the codes that were made for it");
        machines
            .MapPost(
                "/{name}/came-back",
                async Task<Results<NoContent, ProblemHttpResult>> (
                    string name,
                    CameBackRequest request,
                    AgentBook book,
                    HttpContext http,
                    CancellationToken cancel
                ) =>
                    await book.CameBackAsync(name, request.Renamed, http.User.Identity!.Name!, cancel)
                        ? TypedResults.NoContent()
                        : Problems.Refused($"no machine has come with the key of {name} under another name, so there is nothing to settle")
            )
            .WithSummary("Says whether a machine that came with another's key is that machine under a new name, or another");
    }

    private static async Task<Results<Ok<EnrolmentAnswer>, ProblemHttpResult>> EnrolAsync(
        string name,
        AgentBook book,
        AgentListening listening,
        CharterInForce charter,
        IOptions<ServiceSettings> settings,
        HttpContext http,
        CancellationToken cancel
    )
    {
        if (!CharterReader.IsName(name))
            return Problems.Invalid($"'{name}' is no name of a machine; use lower-case letters, digits and hyphens");
        if (name == settings.Value.Machine)
            return Problems.Refused($"{name} is the machine that the service runs on; what it does there needs no agent");
        if (charter.Charter.Machines.GetValueOrDefault(name)?.ReadOver is { } server)
            return Problems.Refused(
                $"the service reads {name} itself, over {server.Server}, as the charter says; take 'read-over' out there before it joins"
            );
        if (listening.Address is not { } address)
            return Problems.Refused(
                "no agent could reach this service: it listens at no address for them; give the setting IronKeep:AgentListen, such as "
                    + "https://0.0.0.0:7421, and start it anew"
            );
        var (code, until, replaces) = await book.EnrolAsync(name, listening.Print, http.User.Identity!.Name!, cancel);
        http.Response.Headers.CacheControl = "no-store";
        return TypedResults.Ok(
            new EnrolmentAnswer(name, code.ToString(), until.ToDateTimeOffset(), $"ironkeep-agent join {address} --code {code}", replaces)
        );
    }

    private static async Task<Results<Ok<MachineAnswer>, ProblemHttpResult>> ShutOutAsync(
        string name,
        ShutOutRequest request,
        AgentBook book,
        MachineList list,
        HttpContext http,
        CancellationToken cancel
    )
    {
        if (string.IsNullOrWhiteSpace(request.Reason) || request.Reason.Length > MostReason)
            return Problems.Invalid($"say why in 1 to {MostReason} letters: whoever looks at the machine next reads it");
        var before = (await list.AllAsync(cancel)).FirstOrDefault(m => m.Name == name);
        if (!await book.ShutOutAsync(name, http.User.Identity!.Name!, request.Reason.Trim(), cancel))
            return before switch
            {
                null => Problems.NotThere("machine", name, "machines"),
                { State: AgentState.ShutOut } => Problems.Refused($"machine {name} is shut out already, by {before.ShutOutBy}"),
                _ => Problems.Refused($"machine {name} has no agent and no code, so there is nothing to take away"),
            };
        return (await list.AllAsync(cancel)).FirstOrDefault(m => m.Name == name) is { } machine
            ? TypedResults.Ok(machine)
            // It had a code alone, and nothing else knows it.
            : TypedResults.Ok(before!);
    }
}

/// <summary>What is known of all machines, from the charter, the jobs and the agents.</summary>
public sealed class MachineList(
    IDbContextFactory<KeepContext> catalogue,
    CharterInForce inForce,
    AgentBook book,
    MachineStandings standings,
    CoverageDesk coverage,
    NightBoard board,
    TimeProvider clock,
    IOptions<ServiceSettings> settings
)
{
    private const int NightsShown = 7;

    /// <summary>In order of name.</summary>
    public async Task<IReadOnlyList<MachineAnswer>> AllAsync(CancellationToken cancel)
    {
        var (charter, own, now) = (inForce.Charter, settings.Value.Machine, clock.Now());
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        var agents = await db.Agents.AsNoTracking().ToDictionaryAsync(a => a.Machine, cancel);
        var codes = await db
            .JoiningCodes.AsNoTracking()
            .Where(c => c.UsedAt == null && c.Until >= now)
            .ToDictionaryAsync(c => c.Machine, cancel);
        var nights = await board.OfAsync(
            db,
            [.. charter.Placed.All.Select(j => (j.Name, j.Machine))],
            charter.Zone,
            now,
            NightsShown,
            cancel
        );
        var since = await db.MachineCoverages.AsNoTracking().ToDictionaryAsync(c => c.Machine, cancel);
        return [.. (await coverage.OfAsync(db, cancel)).Select(m => Of(m.Machine, m.Coverage))];

        MachineAnswer Of(string name, MachineCoverage covered)
        {
            var declared = charter.Machines.GetValueOrDefault(name);
            var (agent, code) = (agents.GetValueOrDefault(name), codes.GetValueOrDefault(name));
            return new MachineAnswer(
                name,
                declared?.Site,
                declared?.Owner,
                declared is null ? [] : [.. declared.Tags],
                declared is not null,
                name == own,
                charter.Placed.At(name).Count(),
                agent is not null ? book.StateOf(agent)
                    : code is not null ? AgentState.Enrolled
                    : AgentState.None,
                code?.Until.ToDateTimeOffset(),
                agent?.EnrolledBy ?? code?.MadeBy,
                agent?.JoinedAt.ToDateTimeOffset(),
                agent?.HeardAt.ToDateTimeOffset(),
                agent is null ? null : book.RightUntil(agent),
                agent?.Version,
                agent?.System,
                agent?.Address,
                agent?.ClockAhead,
                agent?.ShutOutAt?.ToDateTimeOffset(),
                agent?.ShutOutBy,
                agent?.ShutOutWhy,
                agent is not null && book.IsAway(agent),
                standings.Of(name),
                standings.ServicesOf(name),
                declared?.ReadOver?.Server,
                new CoverageAnswer(
                    covered.Class,
                    covered.Why,
                    since.TryGetValue(name, out var row) && row.Class == covered.Class ? row.Since.ToDateTimeOffset() : null
                ),
                CoverageDesk.RetiredCopies(declared, charter, now),
                declared is null ? [] : [.. charter.Jobs.Values.Where(j => j.Selection.Excepts(declared)).Select(j => j.Name)],
                [
                    .. Enumerable
                        .Range(0, NightsShown)
                        .Select(i => NightBoard.Worst(charter.Placed.At(name).Select(j => nights[(j.Name, name)][i].Outcome))),
                ],
                agent?.CameAs
            );
        }
    }
}
