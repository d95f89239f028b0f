namespace IronKeep.Core.Quantities;

/// <summary>Numbers with their nouns: "1 copy", "3 copies".</summary>
public static class Counted
{
    public static string Of(long count, string one, string? many = null) => $"{count} {(count == 1 ? one : many ?? one + "s")}";

    /// <summary>
    /// The first two names and how many more there are, "a, b and 10 more", for a sentence; all of them belong in a list somewhere else.
    /// <paramref name="total"/> counts where only some of the names are at hand.
    /// </summary>
    public static string Named(IReadOnlyCollection<string> names, long? total = null)
    {
        var shown = string.Join(names.Count == 2 && (total ?? 2) == 2 ? " and " : ", ", names.Take(2));
        var more = (total ?? names.Count) - Math.Min(2, names.Count);
        return more > 0 ? $"{shown} and {more} more" : shown;
    }
}
