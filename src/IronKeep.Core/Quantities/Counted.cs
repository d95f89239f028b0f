namespace IronKeep.Core.Quantities;

/// <summary>Numbers with their nouns: "1 copy", "3 copies".</summary>
public static class Counted
{
    public static string Of(long count, string one, string? many = null) => $"{count} {(count == 1 ? one : many ?? one + "s")}";
}
