using System.Globalization;
using System.Text.RegularExpressions;
using NodaTime;
using NodaTime.Text;

namespace IronKeep.Core.Schedules;

/// <summary>Why a sentence could not be read: what is wrong, what would be right, and where (0-based offset into the text).</summary>
public sealed record SentenceProblem(int Position, string Message);

/// <summary>Thrown inside a reader and turned into a <see cref="SentenceProblem"/> at its door.</summary>
internal sealed class SentenceException(int position, string message) : Exception(message)
{
    public int Position { get; } = position;
}

/// <summary>
/// The words of a sentence with their places, read one after another; times and dates are read here, for every kind of sentence.
/// </summary>
internal sealed partial class SentenceWords
{
    private readonly string sentence;
    private readonly string forms;
    private readonly List<(string Text, int Position)> words;
    private int next;

    /// <param name="sentence">The text, case ignored.</param>
    /// <param name="forms">What to write instead, for messages.</param>
    public SentenceWords(string sentence, string forms)
    {
        this.sentence = sentence;
        this.forms = forms;
        words = WordPattern().Matches(sentence.ToLowerInvariant()).Select(m => (m.Value, m.Index)).ToList();
    }

    public int Count => words.Count;

    /// <summary>The place of the next word, or the end of the text.</summary>
    public int Here => next < words.Count ? words[next].Position : sentence.Length;

    /// <summary>The word some places ahead; empty at the end.</summary>
    public string Ahead(int by = 0) => next + by < words.Count ? words[next + by].Text : "";

    public bool Take(string word)
    {
        if (Ahead() != word)
            return false;
        next++;
        return true;
    }

    public void Expect(string word, string why)
    {
        var at = Here;
        if (Take(word))
            return;
        var found = next < words.Count ? $"not '{words[next].Text}'" : "but the sentence ends";
        throw Wrong(at, $"expected '{word}'{(why.Length == 0 ? "" : ", " + why)}, {found}; {forms}");
    }

    public string Next(string what)
    {
        if (next >= words.Count)
            throw Wrong(sentence.Length, $"the sentence ends where {what} should stand");
        return words[next++].Text;
    }

    public void End()
    {
        if (next < words.Count)
            throw Wrong(Here, $"'{words[next].Text}' is not expected here; {forms}");
    }

    /// <summary>Takes every word up to one of <paramref name="stops"/>, joined, with the words and their places.</summary>
    public (string Text, int At, List<(string Text, int Position)> Words) Until(params ReadOnlySpan<string> stops)
    {
        var first = next;
        while (next < words.Count && !stops.Contains(words[next].Text))
            next++;
        return (
            string.Concat(words[first..next].Select(w => w.Text)),
            first < words.Count ? words[first].Position : sentence.Length,
            words[first..next]
        );
    }

    /// <summary>A whole number within bounds.</summary>
    public int Number(string what, int least, int most)
    {
        var at = Here;
        var text = Next(what);
        if (int.TryParse(text, NumberStyles.None, CultureInfo.InvariantCulture, out var number) && number >= least && number <= most)
            return number;
        throw Wrong(at, $"'{text}' is not {what}; write a whole number from {least} to {most}");
    }

    public LocalTime Time()
    {
        var at = Here;
        return TryTime(Next("a time such as 23:00"), out var time, out var problem) ? time : throw Wrong(at, problem!);
    }

    public LocalDate Date()
    {
        var at = Here;
        var text = Next("a date such as 2027-03-28");
        return TryDate(text, out var date, out var problem) ? date : throw Wrong(at, problem!);
    }

    /// <summary>Reads a time of day on a 24-hour clock, hours and minutes.</summary>
    public static bool TryTime(string text, out LocalTime time, out string? problem)
    {
        time = default;
        var parts = text.Split(':');
        problem = null;
        if (
            parts.Length != 2
            || parts[0].Length is < 1 or > 2
            || parts[1].Length != 2
            || !int.TryParse(parts[0], NumberStyles.None, CultureInfo.InvariantCulture, out var hour)
            || !int.TryParse(parts[1], NumberStyles.None, CultureInfo.InvariantCulture, out var minute)
        )
            problem = $"'{text}' is not a time; write hours and minutes, such as 23:00";
        else if (hour == 24 && minute == 0)
            problem = "24:00 is the next day's 00:00; write 00:00 and choose the day";
        else if (hour > 23 || minute > 59)
            problem = $"'{text}' is not on a 24-hour clock; times run from 00:00 to 23:59";
        else
            time = new LocalTime(hour, minute);
        return problem is null;
    }

    /// <summary>Reads an ISO 8601 date of the years 1900 to 9998.</summary>
    public static bool TryDate(string text, out LocalDate date, out string? problem)
    {
        date = default;
        problem = $"'{text}' is not a date; write year, month and day, such as 2027-03-28";
        if (!DatePattern().IsMatch(text))
            return false;
        var read = LocalDatePattern.Iso.Parse(text);
        if (!read.Success)
        {
            problem = $"there is no {text}; the calendar does not have this date";
            return false;
        }
        date = read.Value;
        problem = date.Year is >= 1900 and <= 9998 ? null : $"the year of {text} is out of range; dates run from 1900 to 9998";
        return problem is null;
    }

    public static SentenceException Wrong(int position, string message) => new(position, message);

    public static string Time(LocalTime time) => $"{time.Hour:00}:{time.Minute:00}";

    public static string Date(LocalDate date) => LocalDatePattern.Iso.Format(date);

    [GeneratedRegex(@"\d+-\d+-\d+|[a-z0-9:.]+|[,\-]|[^\s]")]
    private static partial Regex WordPattern();

    [GeneratedRegex(@"^\d{4}-\d{2}-\d{2}$")]
    private static partial Regex DatePattern();
}
