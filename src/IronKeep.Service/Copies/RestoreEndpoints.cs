using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Machines;
using IronKeep.Core.Quantities;
using IronKeep.Core.Watching;
using IronKeep.Service.Basics;
using IronKeep.Service.Charters;
using IronKeep.Service.Hearing;
using IronKeep.Service.Machines;
using IronKeep.Service.Runs;
using IronKeep.Stores.Posix;
using IronKeep.Stores.Restores;
using Microsoft.AspNetCore.Http.HttpResults;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.Options;

namespace IronKeep.Service.Copies;

/// <summary>Asking for a restore: where to, what of it, and for what reason.</summary>
internal static class RestoreEndpoints
{
    /// <summary>Queues a restore, here or on a machine that has an agent; or says why not.</summary>
    public static async Task<Results<Accepted<RunAnswer>, ProblemHttpResult>> RestoreAsync(
        string id,
        RestoreRequest request,
        KeepContext db,
        RunQueue queue,
        CharterInForce charter,
        AgentBook agents,
        IOptions<ServiceSettings> settings,
        HttpContext http,
        CancellationToken cancel,
        string? store = null
    )
    {
        var (copy, missing) = await CopyBook.FindAsync(db, id, store, cancel);
        if (copy is null)
            return missing!;
        var machine = request.Machine is { } named && named != settings.Value.Machine ? named : null;
        if (
            (machine is null ? BadTarget(request.To, request.Paths, charter, settings.Value) : BadWish(request.To, request.Paths)) is
            { } bad
        )
            return bad;
        if (machine is not null && await BadMachineAsync(db, machine, copy, request.Reason, charter, agents, cancel) is { } away)
            return away;
        var existing = ExistingRule.Keep;
        if (request.Existing is { } rule)
        {
            if (Kebab.Read<ExistingRule>(rule) is not { } known)
                return Problems.Invalid($"existing '{rule}' is not known; use keep, overwrite or beside");
            existing = known;
        }
        var run = await queue.AddAsync(
            new RunRequest(RunKind.Restore, copy.Job, copy.Store, Actor.Person(http.User.Identity!.Name!))
            {
                Order = new RestoreOrder(id, request.Paths, request.To, existing, machine, request.Reason?.Trim()),
                Machine = machine,
            },
            cancel
        );
        return TypedResults.Accepted($"/api/v1/runs/{run.Id}", run.ToAnswer());
    }

    /// <summary>Why nothing can be written to a path of the service's machine, or null.</summary>
    internal static ProblemHttpResult? BadTarget(string to, IReadOnlyList<string> paths, CharterInForce charter, ServiceSettings settings)
    {
        if (BadWish(to, paths) is { } bad)
            return bad;
        // Looked at once more at the moment of writing, when links may lead elsewhere.
        return OwnFolders.Of(charter.Charter, settings).Reason(RealPaths.OfExistingPart(to)) is { } why
            ? Problems.Refused($"'{to}' cannot be written to: {why}")
            : null;
    }

    /// <summary>Why no machine could do it, or null.</summary>
    private static ProblemHttpResult? BadWish(string to, IReadOnlyList<string> paths)
    {
        if (paths.Any(p => p is null))
            return Problems.Invalid("a path is null; name the paths to take, or leave the list empty for all");
        if (!to.StartsWith('/') || to.Contains('\0') || to.Length > MostPath)
            return Problems.Invalid($"'{Short(to)}' is not an absolute path; begin it with '/', and keep it below {MostPath} letters");
        // The order of an agent must fit into what it reads at once.
        if (paths.Count > MostPaths || paths.Sum(p => (long)p.Length) > MostPathLetters)
            return Problems.Invalid($"{paths.Count} paths are too many at once; name folders, at most {MostPaths} paths");
        return null;
    }

    private const int MostPath = 4096,
        MostPaths = 10_000,
        MostPathLetters = 200_000,
        MostReason = 500;

    private static string Short(string to) => to.Length <= 200 ? to : to[..200] + "…";

    /// <summary>
    /// Why a copy is not given back on a machine: it has no agent that may come, or the copy is of another and nobody says why.
    /// </summary>
    private static async Task<ProblemHttpResult?> BadMachineAsync(
        KeepContext db,
        string machine,
        Copy copy,
        string? reason,
        CharterInForce charter,
        AgentBook agents,
        CancellationToken cancel
    )
    {
        var agent = await db.Agents.AsNoTracking().FirstOrDefaultAsync(a => a.Machine == machine, cancel);
        if (agent is null && !charter.Charter.Machines.ContainsKey(machine) && !charter.Charter.Placed.At(machine).Any())
            return Problems.NotThere("machine", machine, "machines");
        if (agent is null || agents.StateOf(agent) != AgentState.Joined)
            return Problems.Refused(
                $"machine {machine} has no agent that may come for it; enrol it with 'ironkeep machine enrol {machine}', or restore on the "
                    + $"service's machine"
            );
        if (reason is { Length: > MostReason })
            return Problems.Invalid($"a reason of more than {MostReason} letters is read by nobody; say it shorter");
        return machine != copy.Machine && string.IsNullOrWhiteSpace(reason)
            ? Problems.Refused(
                $"copy {copy.Id} is of machine {copy.Machine}, and whoever is on {machine} could then read it; say why it is to be "
                    + $"there, with a reason"
            )
            : null;
    }
}
