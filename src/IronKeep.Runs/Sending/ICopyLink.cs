using IronKeep.Stores.Pooled;
using IronKeep.Stores.Sessions;

namespace IronKeep.Runs.Sending;

/// <summary>
/// The way to whoever has the store at hand, for one copy. Several threads may send at once. What it does not take is an
/// <see cref="ArrivalRefusedException"/>; a line that breaks for good is an <see cref="IOException"/>.
/// </summary>
public interface ICopyLink
{
    /// <summary>Begins the copy; gives back which of these earlier copies of the machine are still in force.</summary>
    IReadOnlySet<string> Begin(IReadOnlyCollection<string> copies);

    /// <summary>Sends a batch (<see cref="WireBatch"/>) and gives the answer (<see cref="ArrivingCopy.Take"/>).</summary>
    byte[] Send(ReadOnlyMemory<byte> batch);

    /// <summary>Which of these identities name something that is there (<see cref="ArrivingCopy.Has"/>).</summary>
    byte[] Has(ReadOnlyMemory<byte> told);

    /// <summary>Ends the copy: its record, with the root as this machine names it, and the copy that it was compared with.</summary>
    CopyRecord Commit(CopyRecord record, string? before);
}
