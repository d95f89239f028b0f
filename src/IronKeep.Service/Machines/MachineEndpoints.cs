using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Machines;
using IronKeep.Core.Quantities;
using IronKeep.Service.Basics;
using IronKeep.Service.Charters;
using Microsoft.AspNetCore.Http.HttpResults;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.Options;

namespace IronKeep.Service.Machines;

public static class MachineEndpoints
{
    private const int MostReason = 500;

    public static void MapMachines(this IEndpointRouteBuilder api)
    {
        var machines = api.MapGroup("/machines");
        machines
            .MapGet("", async (MachineList list, AgentListening listening, CancellationToken cancel) =>
                TypedResults.Ok(new MachinesAnswer(listening.Address, await list.AllAsync(cancel)))
            )
            .WithSummary("The machines that the charter declares, that jobs name, or that have an agent");
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
    TimeProvider clock,
    IOptions<ServiceSettings> settings
)
{
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
        var jobs = charter.Jobs.Values.GroupBy(j => Charter.MachineOf(j, own)).ToDictionary(g => g.Key, g => g.Count());
        return
        [
            .. charter
                .Machines.Keys.Concat(jobs.Keys)
                .Concat(agents.Keys)
                .Concat(codes.Keys)
                .Append(own)
                .Distinct()
                .Order(StringComparer.Ordinal)
                .Select(Of),
        ];

        MachineAnswer Of(string name)
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
                jobs.GetValueOrDefault(name),
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
                declared?.ReadOver?.Server
            );
        }
    }
}
