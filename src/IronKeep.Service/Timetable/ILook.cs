using IronKeep.Catalogue;
using IronKeep.Core.Charters;
using IronKeep.Core.Schedules;
using NodaTime;

namespace IronKeep.Service.Timetable;

/// <summary>What looks now and then, in the service that leads, for what nobody reports by himself.</summary>
public interface ILook
{
    /// <summary>How much time lies between two looks; zero: each round.</summary>
    Duration Every { get; }

    Task LookAsync(KeepContext db, CancellationToken cancel);
}

/// <summary>
/// Work that has times of its own beside those of jobs, such as verifying a store. What passed while the service was away is done once,
/// late.
/// </summary>
public interface ITimedWork
{
    /// <summary>The name under which the catalogue keeps how far it has got.</summary>
    string What { get; }

    /// <summary>The stores that it is due for, and when; a name of "" where it is for the service as a whole.</summary>
    IEnumerable<(string Store, Core.Schedules.Schedule When)> Times(Core.Charters.Charter charter);

    /// <summary>Does it, or queues its run, in the change that says it was due.</summary>
    Task DoAsync(KeepContext db, string store, Instant due, CancellationToken cancel);
}
