using System.Collections.Immutable;
using System.Globalization;
using IronKeep.Core.Machines;

namespace IronKeep.Core.Charters;

/// <summary>
/// A value that holds for a job on a machine, in the charter's words, and where it comes from: "job", "variant NAME", "group NAME",
/// "charter" (the group that all jobs are like), "machine", or "usual", where nobody says anything.
/// </summary>
public sealed record EffectiveValue(string Key, string Text, string From);

/// <summary>Every value that holds for a job on a machine, in the order of the charter's keys.</summary>
public static class EffectiveValues
{
    public const string OfJob = "job",
        OfCharter = "charter",
        OfMachine = "machine",
        Usual = "usual";

    public static ImmutableArray<EffectiveValue> Of(Charter charter, PlacedJob job)
    {
        var said = CharterFields.Of(job).ToDictionary(f => f.Key);
        var usual = UsualOf(charter, job);
        return
        [
            .. CharterLanguage
                .Of("job")
                .Select(k =>
                    said.TryGetValue(k.Key, out var field) ? new EffectiveValue(k.Key, field.Text, job.From.GetValueOrDefault(k.Key, OfJob))
                    : usual.TryGetValue(k.Key, out var value)
                        // What says the usual is still said there.
                        ? value with
                        {
                            From = job.From.GetValueOrDefault(k.Key, value.From),
                        }
                    : null
                )
                .OfType<EffectiveValue>(),
        ];
    }

    private static Dictionary<string, EffectiveValue> UsualOf(Charter charter, PlacedJob job)
    {
        var found = new Dictionary<string, EffectiveValue>();
        void Add(string key, object text, string from = Usual) =>
            found[key] = new EffectiveValue(key, Convert.ToString(text, CultureInfo.InvariantCulture)!, from);
        var machine = charter.Machines.GetValueOrDefault(job.Machine);
        Add("zone", charter.Zone.Id, OfCharter);
        if (charter.Tells.Length > 0)
            Add("tells", string.Join(", ", charter.Tells), OfCharter);
        Add("start-limit", JobDefinition.UsualStartLimit);
        Add("tell-when", "trouble");
        if (job.Into.Length > 0)
            Add("prune", "by-hand");
        if (job.Watched)
        {
            Add("heard-by", "check-in");
            if (job.Into.Length > 0)
                Add("early", JobDefinition.UsualEarly);
            return found;
        }
        Add("compression", 1);
        Add("importance", machine?.Importance ?? MachineDefinition.UsualImportance, machine?.Importance is null ? Usual : OfMachine);
        Add("catch-up", "once");
        Add("wait-after-return", JobDefinition.UsualWaitAfterReturn);
        Add("catch-up-gap", JobDefinition.UsualCatchUpGap);
        Add("overlap", "skip");
        Add("retries", 0);
        Add("band", Watching.Band.Usual);
        if (job.Until is not null)
            Add("patience", JobDefinition.UsualPatience);
        if (job.WatchesService is not null)
            Add("starts-at-most", StartCeiling.Usual);
        return found;
    }
}
