namespace IronKeep.Core.Quantities;

/// <summary>Finds the word somebody probably meant, for messages of the form "unknown key 'polcy'; did you mean 'policy'?".</summary>
public static class Nearest
{
    /// <summary>The candidate within two edits (or a third of the word) of <paramref name="word"/>, or null.</summary>
    public static string? To(string word, IEnumerable<string> candidates)
    {
        var limit = Math.Max(2, word.Length / 3);
        return candidates
            .Select(c => (Word: c, Distance: Edits(word.ToLowerInvariant(), c.ToLowerInvariant())))
            .Where(c => c.Distance <= limit)
            .OrderBy(c => c.Distance)
            .ThenBy(c => c.Word, StringComparer.Ordinal)
            .Select(c => c.Word)
            .FirstOrDefault();
    }

    private static int Edits(string a, string b)
    {
        var row = Enumerable.Range(0, b.Length + 1).ToArray();
        for (var i = 1; i <= a.Length; i++)
        {
            var diagonal = row[0];
            row[0] = i;
            for (var j = 1; j <= b.Length; j++)
            {
                var above = row[j];
                row[j] = Math.Min(Math.Min(row[j] + 1, row[j - 1] + 1), diagonal + (a[i - 1] == b[j - 1] ? 0 : 1));
                diagonal = above;
            }
        }
        return row[b.Length];
    }
}
