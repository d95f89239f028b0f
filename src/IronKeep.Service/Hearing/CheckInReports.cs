using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Watching;
using NodaTime;

namespace IronKeep.Service.Hearing;

/// <summary>Check-ins as reports, whatever way they came.</summary>
internal static class CheckInReports
{
    private const int MostNote = 500,
        MostWarned = 20;

    /// <summary>The rules of a job as they stand in a file for 'try log', with the zone of its times; empty where it has none.</summary>
    public static string RulesOf(Charter charter, PlacedJob job) =>
        job.LogRules is { } name && charter.LogRules.TryGetValue(name, out var rules)
            ? CharterWriter.Alone(CharterFields.Of(rules with { Zone = rules.Zone ?? charter.ZoneOf(job), Examples = [] }))
            : "";

    /// <summary>Why it cannot be taken, in words; null: it can.</summary>
    public static string? Problem(CheckInRequest request) =>
        request.Note?.Length > MostNote ? $"the note has more than {MostNote} characters; say the gist"
        : request.Log?.Length > SpokenCheckIn.MostLog ? $"the log has more than {SpokenCheckIn.MostLog} characters; send its end"
        : request.Id is { Length: 0 or > 100 } ? "the id has more than 100 characters, or none"
        : request.Read is { Warned.Count: > MostWarned }
            ? $"more than {MostWarned} lines that warned; send the first, and how many there were"
        : request.Read is { } read && read.Warned.Append(read.Deciding).Any(l => l?.Text.Length > Core.Watching.Logs.LogRun.MostOfText)
            ? $"a line that counts has more than {Core.Watching.Logs.LogRun.MostOfText} characters; send its begin"
        : request.Began > request.At ? "it ended before it began; look at the clock of its machine"
        : null;

    /// <summary>What it says of a job on a machine.</summary>
    public static Report Of(string job, string machine, CheckInRequest request, Instant now) =>
        new(job, machine, EvidenceSource.CheckIn, request.State, now)
        {
            Id = request.Id,
            // A machine whose clock is ahead does not report from the future.
            At = request.At is { } at ? Instant.Min(Instant.FromDateTimeOffset(at), now) : null,
            Began = request.Began is { } began ? Instant.Min(Instant.FromDateTimeOffset(began), now) : null,
            ExitCode = request.State == CheckInState.Started ? null : request.ExitCode ?? 0,
            Note = request.Note?.Trim(),
            Figures = request.Figures,
            Log = request.Log,
            LogCut = request.LogCut,
            Read = request.Read,
        };
}
