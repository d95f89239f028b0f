namespace IronKeep.Stores.Places;

/// <summary>What ends the waiting for a place, for whoever works in it: for an answer, a new connection, or its turn under a ceiling. Goes along with the work into its threads.</summary>
public static class PlaceWaits
{
    /// <summary>How long cancelled work still waits for an answer: tidying up goes on where the place answers.</summary>
    public static readonly TimeSpan Grace = TimeSpan.FromSeconds(2);

    private static readonly AsyncLocal<CancellationToken> Current = new();

    /// <summary>From here on, and in what is started from here, waiting ends with this token.</summary>
    public static void EndWith(CancellationToken cancel) => Current.Value = cancel;

    internal static CancellationToken Token => Current.Value;

    /// <summary>Lets go of something that is waited for when the work has been cancelled for the time of grace; dispose when the answer has come.</summary>
    internal static IDisposable? LetGo(IDisposable waitedFor) => Token.CanBeCanceled ? new Waiting(waitedFor, Token) : null;

    private sealed class Waiting : IDisposable
    {
        private readonly CancellationTokenRegistration asked;
        private Timer? grace;
        private bool over;

        public Waiting(IDisposable waitedFor, CancellationToken cancel) => asked = cancel.Register(() =>
        {
            lock (this)
                if (!over) grace = new Timer(_ => waitedFor.Dispose(), null, Grace, Timeout.InfiniteTimeSpan);
        });

        public void Dispose()
        {
            asked.Dispose();
            lock (this)
            {
                over = true;
                grace?.Dispose();
            }
        }
    }
}
