using System.Security.Cryptography;
using System.Text;

namespace IronKeep.Fleet;

/// <summary>What a machine of the fleet is like, drawn from the seed and its name: the same at every start.</summary>
/// <param name="OftenAway">Whether it is switched off again and again.</param>
/// <param name="Failing">Whether its data is gone again and again.</param>
/// <param name="BytesPerSecond">How fast its line is; null: as fast as it goes.</param>
/// <param name="Files">How many files it has.</param>
/// <param name="FileBytes">How large these are, on average.</param>
internal sealed record Temper(bool OftenAway, bool Failing, long? BytesPerSecond, int Files, int FileBytes)
{
    private const int LeastFiles = 6,
        MoreFiles = 30,
        LeastBytes = 2_000,
        MoreBytes = 20_000,
        SlowLine = 50_000;

    public static Temper Of(string machine, FleetWishes wishes)
    {
        var random = Random(machine, wishes.Seed);
        // Drawn in this order whatever is wished, so that one wish changes nothing else.
        var (away, failing, slow) = (random.NextDouble(), random.NextDouble(), random.NextDouble());
        return new Temper(
            wishes.AwayAre.Contains(machine) || away < wishes.AwayShare,
            wishes.FailingAre.Contains(machine) || failing < wishes.FailingShare,
            slow < wishes.SlowShare ? SlowLine : null,
            LeastFiles + random.Next(MoreFiles),
            LeastBytes + random.Next(MoreBytes)
        );
    }

    /// <summary>A sequence of its own for a machine; the number tells apart several of one machine.</summary>
    public static Random Random(string machine, int seed, int number = 0) =>
        new(BitConverter.ToInt32(SHA256.HashData(Encoding.UTF8.GetBytes($"{seed} {machine} {number}"))));
}

/// <summary>
/// What is asked of a fleet. Shares are from 0 to 1; a cycle is the time in which a machine is away or its data gone once.
/// </summary>
internal sealed record FleetWishes(
    int Seed,
    double AwayShare,
    IReadOnlyCollection<string> AwayAre,
    double FailingShare,
    IReadOnlyCollection<string> FailingAre,
    double SlowShare,
    TimeSpan Cycle,
    bool AliveOnly
);
