namespace IronKeep.Stores.Places;

/// <summary>What ends the waiting of a place under a ceiling for whoever works in it; goes along with the work into its threads.</summary>
public static class PlaceWaits
{
    private static readonly AsyncLocal<CancellationToken> Current = new();

    /// <summary>From here on, and in what is started from here, waiting ends with this token.</summary>
    public static void EndWith(CancellationToken cancel) => Current.Value = cancel;

    internal static CancellationToken Token => Current.Value;
}
