using IronKeep.Core.Quantities;

namespace IronKeep.Core.Watching;

/// <summary>
/// Why something failed, in classes that each have one plain cause and one remedy. Source: docs/semantics.md, section 6 (Watching).
/// </summary>
public enum FailureClass
{
    SourceUnreadable,
    AccessRefused,
    StoreUnreachable,
    StoreFull,
    UnsafePlace,
    Interrupted,
    TimedOut,
    DataDamaged,
    NoEnd,
    ExitCode,
    Reported,
    Unconfirmed,
    MachineAway,
    HookFailed,
    Unknown,
}

/// <summary>The words for each <see cref="FailureClass"/>.</summary>
public static class FailureWords
{
    /// <summary>The plain cause, as words that follow a colon.</summary>
    public static string Cause(FailureClass failure) =>
        failure switch
        {
            FailureClass.SourceUnreadable => "what the job takes could not be read",
            FailureClass.AccessRefused => "the service was refused access",
            FailureClass.StoreUnreachable => "the store does not answer",
            FailureClass.StoreFull => "the store is full",
            FailureClass.UnsafePlace => "source and store lie inside each other",
            FailureClass.Interrupted => "the run was interrupted",
            FailureClass.TimedOut => "the run took longer than it may",
            FailureClass.DataDamaged => "stored data is damaged",
            FailureClass.NoEnd => "the run began and was not heard of again",
            FailureClass.ExitCode => "the program ended with an exit code that means failure",
            FailureClass.Reported => "its log reports an error",
            FailureClass.MachineAway => "the machine is not in contact",
            FailureClass.HookFailed => "a step before or after the copy failed",
            FailureClass.Unconfirmed => "success was reported, and no copy was found",
            _ => "the cause could not be told",
        };

    /// <summary>What to do about it, as one sentence to a tired person.</summary>
    public static string Remedy(FailureClass failure) =>
        failure switch
        {
            FailureClass.SourceUnreadable =>
                "Check that every path the job takes exists and can be read by the service, then run the job again.",
            FailureClass.AccessRefused =>
                "Give the service the right to read the source and to write to the store, then run the job again.",
            FailureClass.StoreUnreachable =>
                "Bring the store's folder back (mount it, or restore its path); nothing expires meanwhile, and the next run tells whether "
                    + "it is well.",
            FailureClass.StoreFull => "Make room: reclaim the bin, prune, or give the store more space; then run the job again.",
            FailureClass.UnsafePlace => "Move the source or the store so that neither lies inside the other, then apply the charter again.",
            FailureClass.Interrupted => "Run the job again; it takes up where the stored chunks end, and earlier copies are whole.",
            FailureClass.TimedOut => "Look at the run's log for what was slow; raise the run limit if the job has simply grown.",
            FailureClass.DataDamaged =>
                "Run the job again to store what is damaged anew, then check the store; restore from another copy meanwhile.",
            FailureClass.NoEnd =>
                "Check on its machine whether it is still running or was killed, and what its log says last; then run it again.",
            FailureClass.ExitCode =>
                "Look up what the exit code means for the program that ran, and read the end of its log; if the code is harmless, say so "
                    + "under 'exit-codes'.",
            FailureClass.Reported =>
                "Fix what the line reports, then run it again; if the line is harmless, remove it from 'failed' or add it to 'ignores'.",
            FailureClass.MachineAway =>
                "Check whether the machine is on and its agent at work ('ironkeep-agent show' there); then run the job again.",
            FailureClass.HookFailed =>
                "Look first whether what the step stops runs again; the run's log has what the step said. Then run the job again.",
            FailureClass.Unconfirmed =>
                "Check whether the copy was written somewhere else, or not at all; until one is there, there is no backup of this night.",
            _ => "Read the run's log; if it does not explain the failure, keep the log and report it.",
        };
}
