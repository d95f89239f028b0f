using IronKeep.Catalogue;
using IronKeep.Service.Duty;

namespace IronKeep.Service.Basics;

/// <summary>
/// How a loop of the service comes round: one that never completes a round is not well, however busy it is. Real time; safe for several
/// threads.
/// </summary>
public sealed class LoopRounds(TimeProvider clock)
{
    private static readonly TimeSpan Standing = TimeSpan.FromMinutes(2);
    private const int MostFailures = 3;
    private readonly Lock gate = new();
    private readonly long started = clock.GetTimestamp();
    private long last;
    private long ended;
    private int failures;
    private string? problem;

    /// <summary>How long ago it last came round; null before its first round.</summary>
    public TimeSpan? SinceLast
    {
        get
        {
            lock (gate)
                return last == 0 ? null : clock.GetElapsedTime(last);
        }
    }

    public void Came()
    {
        lock (gate)
            (last, ended, failures, problem) = (clock.GetTimestamp(), clock.GetTimestamp(), 0, null);
    }

    public void Failed(Exception e)
    {
        lock (gate)
            (ended, failures, problem) = (clock.GetTimestamp(), failures + 1, e.GetBaseException().Message);
    }

    /// <summary>Whether it moves at all: a round that failed counts, one that hangs does not.</summary>
    public bool Moves
    {
        get
        {
            lock (gate)
                return clock.GetElapsedTime(ended == 0 ? started : ended) <= Standing;
        }
    }

    /// <summary>What is wrong with it, in words; null when it is well.</summary>
    public string? Problem
    {
        get
        {
            lock (gate)
            {
                if (failures >= MostFailures)
                    return $"it fails each time, {failures} times by now: {problem}";
                var since = clock.GetElapsedTime(last == 0 ? started : last);
                return since <= Standing ? null
                    : last == 0 ? $"it stands still: it has not come round once in {since.TotalSeconds:0} s"
                    : $"it stands still: it last came round {since.TotalSeconds:0} s ago";
            }
        }
    }
}
