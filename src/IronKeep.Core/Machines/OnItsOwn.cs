using System.Collections.Immutable;

namespace IronKeep.Core.Machines;

/// <summary>
/// A job that an agent carries out on its own: when it is due (soonest first), how late it may begin, how long its machine is to be awake
/// before it makes up for what it missed, and what it needs.
/// </summary>
public sealed record OwnJob(
    string Name,
    IReadOnlyList<DateTimeOffset> Dues,
    TimeSpan StartWithin,
    TimeSpan WaitAfterReturn,
    ImmutableArray<MachineNeed> Needs
);

/// <summary>
/// What an agent does while the service is away. Source: docs/semantics.md, section 2 (Planned runs, lateness, catch-up).
/// </summary>
public static class OnItsOwn
{
    /// <summary>A next due instant nearer than this serves in place of making up for one that was missed.</summary>
    public static readonly TimeSpan NextIsNear = TimeSpan.FromHours(2);

    /// <summary>
    /// The job to carry out now, and for which due instant: the newest of each that came since the last contact and that nothing was done
    /// for, of all the earliest. Null: none.
    /// </summary>
    public static (string Job, DateTimeOffset Due)? Next(
        IEnumerable<OwnJob> jobs,
        IReadOnlySet<(string Job, DateTimeOffset Due)> done,
        DateTimeOffset? lastContact,
        MachineState state,
        DateTimeOffset now
    ) =>
        jobs.Select(j => (Job: j, Due: j.Dues.Where(d => d <= now && d > (lastContact ?? DateTimeOffset.MinValue)).LastOrDefault()))
            .Where(d => d.Due != default && !done.Contains((d.Job.Name, d.Due)) && MayBegin(d.Job, d.Due, state, now))
            .OrderBy(d => d.Due)
            .Select(d => ((string, DateTimeOffset)?)(d.Job.Name, d.Due))
            .FirstOrDefault();

    private static bool MayBegin(OwnJob job, DateTimeOffset due, MachineState state, DateTimeOffset now)
    {
        // What was missed is made up for by one run, when the machine has settled, unless the next is near.
        if (
            now - due > job.StartWithin
            && (state.AwakeSeconds < job.WaitAfterReturn.TotalSeconds || job.Dues.Any(d => d > now && d - now < NextIsNear))
        )
            return false;
        return job.Needs.All(n => n.LackedBy(state) is null);
    }
}
