using IronKeep.Core.Charters;
using IronKeep.Core.Retention;
using NodaTime;

namespace IronKeep.Core.Forecasts;

/// <summary>
/// The copies of one job in one store while a forecast is played: which are alive, what expires, and the bytes they come to.
/// </summary>
internal sealed class Ledger
{
    private readonly PolicyDefinition policy;
    private readonly Rungs rungs;
    private readonly long[][] keys;
    private int[] copyOf = new int[16];
    private bool[] kept = new bool[16];
    private int rows;

    public Ledger(JobDefinition job, PolicyDefinition policy, DateTimeZone zone, SpaceModel space)
    {
        Job = job;
        this.policy = policy;
        Space = space;
        rungs = new Rungs(policy.Keep, zone);
        keys = [.. Enumerable.Range(0, rungs.Count).Select(_ => new long[16])];
    }

    public JobDefinition Job { get; }
    public PolicyDefinition Policy => policy;
    public SpaceModel Space { get; }
    public int Rows => rows;

    /// <summary>The number of the copy in a row, oldest first.</summary>
    public int CopyAt(int row) => copyOf[row];

    public void Add(int copy, Instant taken)
    {
        if (rows == copyOf.Length)
            Grow();
        copyOf[rows] = copy;
        for (var rung = 0; rung < keys.Length; rung++)
            keys[rung][rows] = rungs.KeyOf(rung, taken);
        rows++;
    }

    /// <summary>
    /// Takes out what the policy lets go as of an instant, and gives the numbers of the copies. Same rules as
    /// <see cref="RetentionRules"/>. <paramref name="doubted"/> are copies whose runs were suspect.
    /// </summary>
    public void Expire(Instant asOf, HashSet<int> held, HashSet<int> doubted, List<int> expired)
    {
        Array.Clear(kept, 0, rows);
        var sink = new Sink(kept);
        rungs.Climb(rows, keys, asOf, ref sink);
        if (doubted.Count > 0)
            HoldBack(doubted);
        var floor = rows - policy.AtLeast;
        var to = 0;
        for (var row = 0; row < rows; row++)
        {
            if (row < floor && !kept[row] && !held.Contains(copyOf[row]))
            {
                expired.Add(copyOf[row]);
                continue;
            }
            if (to != row)
            {
                copyOf[to] = copyOf[row];
                for (var rung = 0; rung < keys.Length; rung++)
                    keys[rung][to] = keys[rung][row];
            }
            to++;
        }
        rows = to;
    }

    /// <summary>A suspect copy holds the good one before it.</summary>
    private void HoldBack(HashSet<int> doubted)
    {
        var after = false;
        for (var row = rows - 1; row >= 0; row--)
        {
            if (doubted.Contains(copyOf[row]))
                after = true;
            else if (after)
            {
                kept[row] = true;
                after = false;
            }
        }
    }

    private void Grow()
    {
        Array.Resize(ref copyOf, rows * 2);
        Array.Resize(ref kept, rows * 2);
        for (var rung = 0; rung < keys.Length; rung++)
            Array.Resize(ref keys[rung], rows * 2);
    }

    private readonly struct Sink(bool[] kept) : IRungSink
    {
        public void Keep(int row, int rung, int rank) => kept[row] = true;

        public bool IsKept(int row) => kept[row];
    }
}
