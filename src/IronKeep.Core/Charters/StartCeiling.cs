using System.Globalization;
using IronKeep.Core.Quantities;
using IronKeep.Core.Schedules;

namespace IronKeep.Core.Charters;

/// <summary>How often something is started again within a span of time, as it is written: "3 in 1 hour".</summary>
public sealed record StartCeiling(int Times, Span Within)
{
    private const int MostTimes = 100;
    private const string Between = " in ";

    public static readonly StartCeiling Usual = new(3, new Span(1, SpanUnit.Hours));

    /// <summary>The ceiling, or the problem; exactly one of the two is null.</summary>
    public static (StartCeiling? Ceiling, SentenceProblem? Problem) Read(string sentence)
    {
        var cut = sentence.IndexOf(Between, StringComparison.Ordinal);
        if (
            cut < 0
            || !int.TryParse(sentence[..cut].Trim(), NumberStyles.None, CultureInfo.InvariantCulture, out var times)
            || times is < 1 or > MostTimes
        )
            return (
                null,
                new SentenceProblem(0, $"'{sentence.Trim()}' does not say how often; write '3 in 1 hour', at most {MostTimes} times")
            );
        if (!Span.TryParse(sentence[(cut + Between.Length)..].Trim(), out var within, out var problem))
            return (null, new SentenceProblem(cut + Between.Length, problem));
        return within.ToDuration().TotalMinutes is < 1 or > 7 * 24 * 60
            ? (null, new SentenceProblem(cut + Between.Length, $"{within} is no time to count in; write a minute to a week"))
            : (new StartCeiling(times, within), null);
    }

    public override string ToString() => string.Create(CultureInfo.InvariantCulture, $"{Times}{Between}{Within}");
}
