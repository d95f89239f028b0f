using IronKeep.Core.Ceilings;
using NodaTime;

namespace IronKeep.Core.Forecasts;

/// <summary>A run that waits for its turn since <paramref name="At"/>; <see cref="Blocked"/> says what it first waited for.</summary>
internal sealed class WaitingRun(RunClaim claim, Instant at, PlayedOutcome outcome)
{
    public RunClaim Claim => claim;
    public Instant At => at;
    public PlayedOutcome Outcome => outcome;
    public string? Blocked { get; set; }
    public string Job => claim.Job;
    public Instant Due => claim.Due;
}

/// <summary>
/// Runs that wait, in order. Those that need the same things wait in one line, so that finding the first that can start looks at the
/// heads of the lines alone.
/// </summary>
internal sealed class WaitingRuns
{
    private sealed class Line
    {
        public PriorityQueue<WaitingRun, RunClaim> Runs { get; } = new(Comparer<RunClaim>.Create(RunClaim.Order));
    }

    private static readonly Comparer<WaitingRun> InOrder = Comparer<WaitingRun>.Create((a, b) => RunClaim.Order(a.Claim, b.Claim));
    private readonly Dictionary<string, Line> lines = [];
    private readonly List<WaitingRun> heads = [];
    private readonly List<WaitingRun> unexplained = [];

    public int Count { get; private set; }

    public void Add(WaitingRun run)
    {
        Count++;
        unexplained.Add(run);
        if (!lines.TryGetValue(run.Claim.Key, out var line))
            lines[run.Claim.Key] = line = new Line();
        var before = line.Runs.TryPeek(out var head, out _) ? head : null;
        line.Runs.Enqueue(run, run.Claim);
        if (before == line.Runs.Peek())
            return;
        if (before is not null)
            heads.Remove(before);
        AddHead(run);
    }

    /// <summary>Takes the first run that may start; null when none may.</summary>
    public WaitingRun? TakeFirst(RunCeilings ceilings)
    {
        for (var i = 0; i < heads.Count; i++)
        {
            var head = heads[i];
            if (!ceilings.CanBegin(head.Claim))
                continue;
            var line = lines[head.Claim.Key];
            line.Runs.Dequeue();
            heads.RemoveAt(i);
            if (line.Runs.TryPeek(out var next, out _))
                AddHead(next);
            Count--;
            return head;
        }
        return null;
    }

    private void AddHead(WaitingRun run)
    {
        // Two of one order stand beside each other.
        var at = heads.BinarySearch(run, InOrder);
        heads.Insert(at < 0 ? ~at : at, run);
    }

    /// <summary>Notes for those that came last what they wait for.</summary>
    public void Explain(RunCeilings ceilings)
    {
        foreach (var run in unexplained)
            run.Blocked ??= ceilings.WaitsFor(run.Claim);
        unexplained.Clear();
    }

    public IEnumerable<WaitingRun> All() => lines.Values.SelectMany(l => l.Runs.UnorderedItems.Select(i => i.Element)).Order(InOrder);
}
