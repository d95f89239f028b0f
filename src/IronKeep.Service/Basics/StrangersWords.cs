using System.Globalization;
using System.Text;

namespace IronKeep.Service.Basics;

/// <summary>What somebody who is not trusted says, as it is shown to people.</summary>
internal static class StrangersWords
{
    /// <summary>One line of at most so many letters: nothing that moves a terminal or turns the direction of writing round.</summary>
    public static string OneLine(string words, int most) =>
        string.Concat(
            words
                .EnumerateRunes()
                .Where(r => Rune.GetUnicodeCategory(r) is not (UnicodeCategory.Control or UnicodeCategory.Format))
                .Take(most)
        );
}
