using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Service.Basics;
using IronKeep.Service.Charters;

namespace IronKeep.Service.Machines;

/// <summary>When the jobs of a machine are due next, by the charter in force and the clock.</summary>
public sealed class NextDues(CharterInForce inForce, TimeProvider clock)
{
    private const int Most = 200;

    /// <summary>Soonest first; jobs that only run when somebody asks, or that follow another, are not among them.</summary>
    public IReadOnlyList<NextDue> Of(string machine)
    {
        var (charter, now) = (inForce.Charter, clock.Now());
        return
        [
            .. charter
                .Placed.At(machine)
                .Where(j => !j.Watched && j.After is null)
                .Select(j => (Job: j.Name, Due: charter.DueTimesOf(j)?.Next(now)))
                .Where(d => d.Due is not null)
                .OrderBy(d => d.Due)
                .Take(Most)
                .Select(d => new NextDue(d.Job, d.Due!.Value.ToDateTimeOffset())),
        ];
    }
}
