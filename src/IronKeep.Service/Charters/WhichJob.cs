using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Quantities;
using IronKeep.Service.Basics;
using Microsoft.AspNetCore.Http.HttpResults;

namespace IronKeep.Service.Charters;

/// <summary>Which job is meant, on which of its machines, by those who name it.</summary>
internal static class WhichJob
{
    /// <summary>
    /// The job on the machine that is named; without one the only machine that it is on. Null with the problem where it is on none, on
    /// several, or does not exist.
    /// </summary>
    public static PlacedJob? Of(Charter charter, string name, string? on, out ProblemHttpResult? problem)
    {
        problem = null;
        if (!charter.Jobs.ContainsKey(name))
        {
            problem = Problems.NotThere("job", name, "jobs", " in the charter");
            return null;
        }
        if (on is not null)
        {
            if (charter.Placed.Find(name, on) is { } there)
                return there;
            problem = Problems.NotFound($"job {name} is not on machine '{on}'; it is on {Machines(charter, name)}");
            return null;
        }
        var all = charter.Placed.Named(name).Take(2).ToList();
        if (all is [var one])
            return one;
        problem =
            all.Count == 0
                ? Problems.Refused($"job {name} is on no machine now: {charter.Jobs[name].Selection.Words(charter.Own)} selects none")
                : Problems.Of(
                    StatusCodes.Status400BadRequest,
                    "Not understood",
                    $"job {name} is on several machines: {Machines(charter, name)}",
                    ProblemCodes.WhichMachine,
                    "say which is meant with ?on=MACHINE",
                    (ProblemCodes.Kind, "job"),
                    (ProblemCodes.Name, name),
                    (ProblemCodes.Machines, string.Join(", ", all.Select(j => j.Machine)))
                );
        return null;
    }

    private static string Machines(Charter charter, string name) =>
        charter.Placed.Named(name).Select(j => j.Machine).ToList() is { Count: > 0 } all ? Counted.Named(all) : "none";
}
