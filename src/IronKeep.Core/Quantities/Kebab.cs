using System.Text;

namespace IronKeep.Core.Quantities;

/// <summary>Names on the wire and in files: lower case, words joined by hyphens ("timed-out").</summary>
public static class Kebab
{
    /// <summary>"TimedOut" becomes "timed-out".</summary>
    public static string From(string pascal)
    {
        var text = new StringBuilder(pascal.Length + 4);
        foreach (var c in pascal)
        {
            if (char.IsAsciiLetterUpper(c) && text.Length > 0)
                text.Append('-');
            text.Append(char.ToLowerInvariant(c));
        }
        return text.ToString();
    }

    /// <summary>The word of an enum value in API, client, console and files: "timed-out".</summary>
    public static string Of(Enum value) => From(value.ToString());

    /// <summary>The word of a value.</summary>
    public static string Word<T>(this T value)
        where T : struct, Enum => From(value.ToString());

    /// <summary>The word of a value, or null where there is none.</summary>
    public static string? Word<T>(this T? value)
        where T : struct, Enum => value is { } there ? From(there.ToString()) : null;

    /// <summary>The enum value whose hyphenated name is <paramref name="word"/>, or null.</summary>
    public static T? Read<T>(string word)
        where T : struct, Enum
    {
        foreach (var value in Enum.GetValues<T>())
        {
            if (From(value.ToString()) == word)
                return value;
        }
        return null;
    }
}
