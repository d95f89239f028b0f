using NodaTime;

namespace IronKeep.Core.Watching.Logs;

/// <summary>
/// A line that counts: its number from 1 in what was read, which list it is of, its text, and the class of failure that it names.
/// </summary>
public sealed record LogMark(long Line, LogList List, string Text, FailureClass? Class = null);

/// <summary>
/// What a log says of one run, as far as it has been read: facts alone; what they mean is the judge's. Lines are counted from 1. Times are
/// what the lines themselves say, null where they say none.
/// </summary>
public sealed class LogRun
{
    public const int MostWarned = 20;

    /// <summary>Of a line that counts so many characters are kept.</summary>
    public const int MostOfText = 500;
    private readonly List<LogMark> warned = [];
    private readonly Dictionary<string, string> named = [];

    public required long FirstLine { get; init; }
    public long LastLine { get; internal set; }
    public Instant? Began { get; internal set; }
    public Instant? Ended { get; internal set; }

    /// <summary>The last time that any of its lines said.</summary>
    public Instant? LastTime { get; internal set; }

    /// <summary>Whether a line ended it.</summary>
    public bool HasEnd { get; internal set; }

    /// <summary>Whether it is over: ended by a line, by the begin of another, or by silence.</summary>
    public bool IsOver { get; internal set; }

    /// <summary>The last line that was ok or failed; and the last that a figure made failed.</summary>
    public LogMark? Deciding { get; internal set; }

    /// <summary>The first lines that warned, and how many there were.</summary>
    public IReadOnlyList<LogMark> Warned => warned;
    public long WarnedCount { get; private set; }
    public long? Items { get; internal set; }
    public long? Bytes { get; internal set; }
    public long? Skipped { get; internal set; }
    public long? Errors { get; internal set; }
    public double? Seconds { get; internal set; }

    /// <summary>
    /// How long it took (seconds), as it says itself or else by the times of its begin and end; null where neither is known.
    /// </summary>
    public double? TookSeconds =>
        Seconds ?? (Began is { } began && Ended is { } ended && ended >= began ? (ended - began).TotalSeconds : null);
    public int? Code { get; internal set; }

    /// <summary>The lines from which the code, and figures of nothing, were read.</summary>
    public LogMark? CodeLine { get; internal set; }
    public LogMark? EmptyLine { get; internal set; }

    /// <summary>The other values, by name.</summary>
    public IReadOnlyDictionary<string, string> Named => named;

    /// <summary>A run as another told it that has read the log where it was written.</summary>
    public static LogRun Told(LogMark? deciding, IEnumerable<LogMark> warned, long warnedCount, int? code, bool hasEnd)
    {
        var run = new LogRun
        {
            FirstLine = 1,
            Deciding = deciding,
            Code = code,
            HasEnd = hasEnd,
            IsOver = true,
        };
        foreach (var mark in warned.Take(MostWarned))
            run.warned.Add(mark);
        run.WarnedCount = Math.Max(warnedCount, run.warned.Count);
        return run;
    }

    internal void Warn(LogMark mark)
    {
        WarnedCount++;
        if (warned.Count < MostWarned)
            warned.Add(mark);
    }

    internal void Name(string name, string value) => named[name] = value;
}
