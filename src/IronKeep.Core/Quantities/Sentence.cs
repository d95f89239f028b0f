namespace IronKeep.Core.Quantities;

/// <summary>Texts for people.</summary>
public static class Sentence
{
    /// <summary>The text with a capital letter at its beginning; what begins otherwise than with a small letter stays as it is.</summary>
    public static string Begin(string text) =>
        text.Length > 0 && char.IsAsciiLetterLower(text[0]) ? char.ToUpperInvariant(text[0]) + text[1..] : text;
}
