namespace IronKeep.Core.Schedules;

/// <summary>
/// Reads a schedule in any of its three forms: a sentence, five crontab fields, or an RFC 5545 recurrence rule with its start.
/// </summary>
public static class ScheduleText
{
    /// <summary>The schedule, or the problem with its place; exactly one of the two is null.</summary>
    public static (Schedule? Schedule, SentenceProblem? Problem) Read(string text) =>
        RecurrenceReader.LooksLikeOne(text) ? RecurrenceReader.Read(text)
        : CrontabFields.LooksLikeOne(text) ? CrontabFields.Read(text)
        : ScheduleSentence.Read(text);
}
