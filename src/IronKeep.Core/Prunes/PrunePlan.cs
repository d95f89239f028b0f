using System.Collections.Immutable;
using System.Globalization;
using System.Security.Cryptography;
using System.Text;
using IronKeep.Core.Quantities;
using IronKeep.Core.Retention;
using IronKeep.Core.Watching;
using NodaTime;

namespace IronKeep.Core.Prunes;

/// <summary>
/// A frozen list of what goes and what stays for one job on one machine in one store, each with its reason, and a fingerprint
/// over all that the decision rests on. Applying does what was shown and only that. Source: docs/semantics.md, section 4 (Pruning).
/// </summary>
public sealed record PrunePlan(
    string Job,
    string Machine,
    string Store,
    RetentionPolicy Policy,
    RetentionGuards Guards,
    Instant AsOf,
    bool Frozen,
    ImmutableArray<CopyVerdict> Copies
)
{
    /// <summary>The copies that go, oldest last.</summary>
    public IEnumerable<CopyVerdict> Going => Copies.Where(c => c.Verdict == Verdict.Expire);

    public static PrunePlan Make(
        string job,
        string machine,
        string store,
        RetentionPolicy policy,
        RetentionGuards guards,
        IEnumerable<CopyFacts> copies,
        Instant asOf
    )
    {
        var answer = RetentionRules.Decide(policy, guards, copies, asOf);
        return new PrunePlan(job, machine, store, policy, guards, asOf, answer.Frozen, answer.Copies);
    }

    /// <summary>
    /// Sixteen hexadecimal digits over job, machine, store, policy, guards and every copy with its state, hold and verdict.
    /// </summary>
    public string Fingerprint()
    {
        var text = new StringBuilder();
        text.Append(
            CultureInfo.InvariantCulture,
            $"{Job}\n{Machine}\n{Store}\n{Policy}\n{Guards.Zone.Id}\n{Guards.AtLeast}\n{Guards.FreshWithin}\n"
        );
        foreach (var c in Copies)
            text.Append(
                CultureInfo.InvariantCulture,
                $"{c.Copy.Id}\t{c.Copy.Taken.ToUnixTimeTicks()}\t{c.Copy.State}\t{c.Copy.Base}\t{c.Copy.Held}\t{c.Copy.Doubted}"
                    + $"\t{c.Verdict}\n"
            );
        return Convert.ToHexStringLower(SHA256.HashData(Encoding.UTF8.GetBytes(text.ToString()))[..8]);
    }

    /// <summary>
    /// Whether what was shown still holds: null when it does, else what changed. Copies that arrived later do not matter as
    /// such; a listed copy or the policy that changed does, and so does an expiry that the rules of today would not decide.
    /// </summary>
    /// <param name="today">The plan as it would be made now.</param>
    /// <param name="done">Copies that an interrupted carrying-out of this very plan has moved already.</param>
    public string? DriftAgainst(PrunePlan today, IReadOnlySet<string>? done = null)
    {
        // A freeze that came or went shows in the verdicts.
        if (!Policy.Equals(today.Policy) || Guards with { FrozenBecause = null } != today.Guards with { FrozenBecause = null })
            return $"the policy of job {Job} is now '{today.Policy}' (at least {today.Guards.AtLeast})";
        var now = today.Copies.ToDictionary(c => c.Copy.Id);
        foreach (var listed in Copies)
        {
            if (listed.Verdict == Verdict.Expire && done?.Contains(listed.Copy.Id) == true)
                continue;
            if (!now.TryGetValue(listed.Copy.Id, out var current))
                return $"copy {listed.Copy.Id} is no longer there";
            if (Weighs(current.Copy) != Weighs(listed.Copy))
                return $"copy {listed.Copy.Id} has changed: it is "
                    + $"{Kebab.Of(current.Copy.State)}{(current.Copy.Held is null ? "" : " and held " + current.Copy.Held)}";
            if (listed.Verdict == Verdict.Expire && current.Verdict != Verdict.Expire)
                return $"copy {listed.Copy.Id} would not expire any more: {string.Join("; ", current.Reasons)}";
        }
        return null;
    }

    /// <summary>What of a copy can change a verdict: that a check has found it sound, or who holds it in what words, cannot.</summary>
    private static (Instant, bool, string?, bool, bool) Weighs(CopyFacts copy) =>
        (copy.Taken, copy.State is CopyState.Unchecked or CopyState.Sound, copy.Base, copy.Held is not null, copy.Doubted);
}
