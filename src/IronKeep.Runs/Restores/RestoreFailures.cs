using IronKeep.Core.Watching;
using IronKeep.Stores.Posix;

namespace IronKeep.Runs.Restores;

/// <summary>Why a restore as a whole came to nothing.</summary>
public static class RestoreFailures
{
    /// <summary>What a run that cannot write to its target fails with.</summary>
    public static RunFailedException Of(string to, Exception e) =>
        new(
            e is UnauthorizedAccessException or PosixException { AccessDenied: true } or PosixException { ReadOnly: true }
                ? FailureClass.AccessRefused
                : FailureClass.Unknown,
            $"cannot restore to {to}: {e.Message}"
                + (e is PosixException { ReadOnly: true } ? "; name another folder, or let the program's unit write there" : ""),
            e
        );
}
