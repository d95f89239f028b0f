using System.Collections.Immutable;
using System.Globalization;
using System.Text.RegularExpressions;
using IronKeep.Core.Quantities;
using NodaTime;

namespace IronKeep.Core.Schedules;

/// <summary>Why a sentence could not be read: what is wrong, what would be right, and where (0-based offset into the text).</summary>
public sealed record SentenceProblem(int Position, string Message);

/// <summary>
/// Reads schedule sentences: <c>WEEKDAYS at HH:MM, HH:MM</c> and
/// <c>every N minutes|hours [between HH:MM and HH:MM] [on WEEKDAYS]</c>. Case-insensitive. Source: docs/semantics.md, section 1.
/// </summary>
public static partial class ScheduleSentence
{
    private const string Forms = "write 'weekdays at 23:00', 'mon,thu at 06:30, 18:30' or 'every 15 minutes between 08:00 and 18:00 on weekdays'";

    /// <summary>The schedule, or the problem; exactly one of the two is null.</summary>
    public static (Schedule? Schedule, SentenceProblem? Problem) Read(string sentence)
    {
        var words = Words(sentence);
        if (words.Count == 0) return Refuse(0, $"the schedule is empty; {Forms}");
        try
        {
            var reader = new Reader(sentence, words);
            Schedule schedule = words[0].Text == "every" ? reader.Interval() : reader.Clock();
            return (schedule, null);
        }
        catch (Reader.ProblemException e)
        {
            return Refuse(e.Position, e.Message);
        }
    }

    private static (Schedule?, SentenceProblem?) Refuse(int position, string message) => (null, new SentenceProblem(position, message));

    private readonly record struct Word(string Text, int Position);

    private static List<Word> Words(string sentence) =>
        WordPattern().Matches(sentence.ToLowerInvariant()).Select(m => new Word(m.Value, m.Index)).ToList();

    [GeneratedRegex(@"[a-z0-9:.]+|[,\-]|[^\s]")]
    private static partial Regex WordPattern();

    private sealed class Reader(string sentence, List<Word> words)
    {
        private int next;

        public ClockSchedule Clock()
        {
            var days = Days(until: "at");
            Expect("at", "then the time");
            var times = new SortedSet<LocalTime> { Time() };
            while (Take(",")) times.Add(Time());
            End();
            return new ClockSchedule(days, [.. times]);
        }

        public IntervalSchedule Interval()
        {
            Expect("every", "");
            var minutes = Minutes();
            LocalTime? from = null, to = null;
            var windowAt = Here();
            if (Take("between"))
            {
                from = Time();
                Expect("and", "then the end of the window");
                to = Time();
            }
            var days = Take("on") ? Days(until: null) : Weekdays.Daily;
            End();
            var schedule = new IntervalSchedule(minutes, from, to, days);
            // Two neighbouring dates show the whole pattern: a window may reach past midnight.
            var monday = new LocalDate(2026, 6, 1);
            if (!Enumerable.Range(0, 8).Any(i => schedule.TimesOn(monday.PlusDays(i)).Any()))
            {
                throw Wrong(windowAt, $"this is never due: no step of {schedule.Minutes} minutes from midnight falls between {Sentences.Time(from!.Value)} and {Sentences.Time(to!.Value)}; widen the window or shorten the interval");
            }
            return schedule;
        }

        private int Minutes()
        {
            var at = Here();
            var text = Next("a number of minutes or hours");
            if (!int.TryParse(text, NumberStyles.None, CultureInfo.InvariantCulture, out var count))
                throw Wrong(at, $"'{text}' is not a whole number; write 'every 15 minutes' or 'every 6 hours'");
            if (count == 0) throw Wrong(at, "an interval of 0 is never due; the finest is 1 minute");
            var unitAt = Here();
            var unit = Next("'minutes' or 'hours'");
            var factor = unit switch
            {
                "minute" or "minutes" => 1,
                "hour" or "hours" => 60,
                "second" or "seconds" => throw Wrong(unitAt, "the finest interval is one minute; write 'every 1 minutes'"),
                _ => throw Wrong(unitAt, $"'{unit}' is not a unit of an interval; use minutes or hours, or give weekdays and a time: 'daily at 23:00'"),
            };
            if ((long)count * factor > MostMinutes)
                throw Wrong(at, $"an interval longer than a day does not fit the daily grid; give weekdays and a time instead, such as 'mon,thu at 23:00'");
            return count * factor;
        }

        private const int MostMinutes = 24 * 60;

        private Weekdays Days(string? until)
        {
            var first = next;
            while (next < words.Count && words[next].Text != until) next++;
            var text = string.Concat(words[first..next].Select(w => w.Text));
            var at = first < words.Count ? words[first].Position : sentence.Length;
            if (text.Length == 0) throw Wrong(at, $"the weekdays are missing; {Forms}");
            if (Weekdays.TryParse(text, out var days)) return days;
            foreach (var word in words[first..next].Where(w => w.Text is not ("," or "-")))
            {
                if (Weekdays.TryParse(word.Text, out _)) continue;
                var near = Nearest.To(word.Text, ["daily", "weekdays", "weekends", "mon", "tue", "wed", "thu", "fri", "sat", "sun"]);
                throw Wrong(word.Position, near is null
                    ? $"'{word.Text}' is not a weekday; {Forms}"
                    : $"'{word.Text}' is not a weekday; did you mean '{near}'?");
            }
            throw Wrong(at, $"'{text}' cannot be read as weekdays; write 'mon-fri' or 'sat,sun'");
        }

        private LocalTime Time()
        {
            var at = Here();
            var text = Next("a time such as 23:00");
            var parts = text.Split(':');
            if (parts.Length != 2 || parts[0].Length is < 1 or > 2 || parts[1].Length != 2
                || !int.TryParse(parts[0], NumberStyles.None, CultureInfo.InvariantCulture, out var hour)
                || !int.TryParse(parts[1], NumberStyles.None, CultureInfo.InvariantCulture, out var minute))
                throw Wrong(at, $"'{text}' is not a time; write hours and minutes, such as 23:00");
            if (hour == 24 && minute == 0) throw Wrong(at, "24:00 is the next day's 00:00; write 00:00 and choose the day");
            if (hour > 23 || minute > 59) throw Wrong(at, $"'{text}' is not on a 24-hour clock; times run from 00:00 to 23:59");
            return new LocalTime(hour, minute);
        }

        private void End()
        {
            if (next == words.Count) return;
            var word = words[next];
            throw Wrong(word.Position, $"'{word.Text}' is not expected here; {Forms}");
        }

        private int Here() => next < words.Count ? words[next].Position : sentence.Length;

        private bool Take(string word)
        {
            if (next >= words.Count || words[next].Text != word) return false;
            next++;
            return true;
        }

        private void Expect(string word, string why)
        {
            var at = Here();
            if (Take(word)) return;
            var found = next < words.Count ? $"not '{words[next].Text}'" : "but the sentence ends";
            throw Wrong(at, $"expected '{word}'{(why.Length == 0 ? "" : ", " + why)}, {found}; {Forms}");
        }

        private string Next(string what)
        {
            if (next >= words.Count) throw Wrong(sentence.Length, $"the sentence ends where {what} should stand");
            return words[next++].Text;
        }

        private static ProblemException Wrong(int position, string message) => new(position, message);

        public sealed class ProblemException(int position, string message) : Exception(message)
        {
            public int Position { get; } = position;
        }
    }
}
