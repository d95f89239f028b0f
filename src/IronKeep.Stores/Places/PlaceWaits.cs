namespace IronKeep.Stores.Places;

/// <summary>
/// What ends the waiting for a place, for whoever works in it: for an answer, a new connection, or its turn under a ceiling. Goes along
/// with the work into its threads.
/// </summary>
public static class PlaceWaits
{
    /// <summary>How long cancelled work still waits for an answer: tidying up goes on where the place answers.</summary>
    public static readonly TimeSpan Grace = TimeSpan.FromSeconds(2);

    private static readonly AsyncLocal<CancellationToken> Current = new();

    /// <summary>From here on, and in what is started from here, waiting ends with this token.</summary>
    public static void EndWith(CancellationToken cancel) => Current.Value = cancel;

    internal static CancellationToken Token => Current.Value;

    /// <summary>
    /// Waits for a call that cannot be broken off, and lets it go when the work has been cancelled for the time of grace: then
    /// <paramref name="left"/> tidies up behind it whenever it ends, and the answer is a <see cref="TimeoutException"/>.
    /// </summary>
    internal static T Wait<T>(Func<T> call, Action left)
    {
        var cancel = Token;
        if (!cancel.CanBeCanceled)
            return call();
        var work = Task.Run(call, CancellationToken.None);
        // The call's own failure is thrown below as it is. Nothing is left on the token when the answer has come.
        if (!Answered(work, cancel) && !((IAsyncResult)work).AsyncWaitHandle.WaitOne(Grace))
        {
            _ = work.ContinueWith(
                w =>
                {
                    _ = w.Exception;
                    left();
                },
                TaskScheduler.Default
            );
            throw new TimeoutException("the work was cancelled, and no answer came");
        }
        return work.GetAwaiter().GetResult();
    }

    /// <summary>Waits for the answer, good or bad; false when the work was cancelled first.</summary>
    private static bool Answered(Task work, CancellationToken cancel)
    {
        try
        {
            work.Wait(cancel);
        }
        catch (AggregateException)
        {
            return true;
        }
        catch (OperationCanceledException)
        {
            return work.IsCompleted;
        }
        return true;
    }
}
