using IronKeep.Contracts;

namespace IronKeep.Service.Machines;

/// <summary>Where is kept what agents say of steps that they ran after a run that had been interrupted.</summary>
public interface IOwedLogs
{
    /// <summary>Notes it with the run, if that is a run of the machine.</summary>
    Task NoteAsync(string machine, StepsOwedRequest said, CancellationToken cancel);
}
