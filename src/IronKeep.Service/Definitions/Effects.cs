using System.Diagnostics;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Quantities;
using IronKeep.Core.Retention;
using IronKeep.Core.Schedules;
using IronKeep.Service.Charters;
using IronKeep.Service.Hosting;
using IronKeep.Service.Prunes;
using IronKeep.Stores.Places;
using NodaTime;

namespace IronKeep.Service.Definitions;

/// <summary>What a draft of one object would mean: shown while somebody types, before anything is saved.</summary>
public sealed class Effects(PruneDesk prunes, CharterInForce inForce, TimeProvider clock)
{
    private const int DueShown = 5;
    private static readonly TimeSpan Peek = TimeSpan.FromMilliseconds(250);

    public async Task<PreviewAnswer> OfAsync(string kind, string name, Draft draft, CancellationToken cancel)
    {
        var empty = new PreviewAnswer(draft.Mistakes, [], draft.Yaml, [], null, [], [], null);
        if (draft.Reading.Charter is not { } charter) return empty;
        var answer = empty with { Changes = CharterEndpoints.ToAnswers(CharterDiff.Compare(inForce.Charter, charter)) };
        return kind switch
        {
            "job" => await JobAsync(answer, charter, charter.Jobs[name], cancel),
            "policy" => await PolicyAsync(answer, charter, charter.Policies[name], cancel),
            "store" => answer with { RoomBytes = RoomAt(charter.Stores[name].Folder) },
            CharterFields.Settings when charter.DutyMail is { } mail => answer with { NextDue = NextDue(mail, charter.Zone) },
            _ => answer,
        };
    }

    private async Task<PreviewAnswer> JobAsync(PreviewAnswer answer, Charter charter, JobDeclaration job, CancellationToken cancel)
    {
        var head = charter.HeadOf(job);
        var policy = charter.Policies[job.Policy];
        return answer with
        {
            NextDue = head.When is null ? [] : NextDue(head.When, charter.ZoneOf(head)),
            ComesToKeep = Plays(charter, policy, head),
            Paths = [.. job.Takes.Select(LookAt)],
            Policies = await EffectsAsync(charter, [job], policy, cancel),
        };
    }

    private async Task<PreviewAnswer> PolicyAsync(PreviewAnswer answer, Charter charter, PolicyDeclaration policy, CancellationToken cancel)
    {
        var jobs = charter.Jobs.Values.Where(j => j.Policy == policy.Name).ToList();
        return answer with
        {
            ComesToKeep = Plays(charter, policy, jobs.Count > 0 ? charter.HeadOf(jobs[0]) : null),
            Policies = await EffectsAsync(charter, jobs.Take(DueShown), policy, cancel),
        };
    }

    private string Plays(Charter charter, PolicyDeclaration policy, JobDeclaration? head) =>
        ComesToKeep.Play(policy.Keep, policy.AtLeast, policy.Zone ?? charter.Zone, head?.When, clock.Now()).Words + (head?.When is null ? ", if a copy is made each day" : $", with a copy {head.When}");

    private async Task<IReadOnlyList<PolicyEffectAnswer>> EffectsAsync(Charter charter, IEnumerable<JobDeclaration> jobs, PolicyDeclaration policy, CancellationToken cancel)
    {
        var effects = new List<PolicyEffectAnswer>();
        foreach (var (job, store) in jobs.SelectMany(j => j.Into.Select(s => (j, s))))
        {
            var plan = await prunes.DraftAsync(job, store, policy, cancel);
            effects.Add(new PolicyEffectAnswer(job.Name, store, plan.Copies.Count(c => c.Verdict != Verdict.Expire), plan.Going.Count(),
                [.. plan.Copies.Select(c => new VerdictAnswer(c.Copy.Id, c.Copy.Taken.ToDateTimeOffset(), Word(c.Copy.State), Word(c.Verdict), c.Reasons, c.LeavesAt?.ToDateTimeOffset(), 0, 0))]));
        }
        return effects;
    }

    private IReadOnlyList<DueAnswer> NextDue(Schedule when, DateTimeZone zone)
    {
        var now = clock.Now();
        return [.. DueInstants.Between(when, zone, now, now + Duration.FromDays(3660)).Take(DueShown).Select(d => new DueAnswer(d.ToDateTimeOffset(), d.Local(zone)))];
    }

    private static PathAnswer LookAt(string path)
    {
        if (File.Exists(path)) return new PathAnswer(path, true, 1, new FileInfo(path).Length, true);
        if (!Directory.Exists(path)) return new PathAnswer(path, false, 0, 0, true);
        var watch = Stopwatch.StartNew();
        long items = 0, bytes = 0;
        var options = new EnumerationOptions { RecurseSubdirectories = true, IgnoreInaccessible = true, AttributesToSkip = FileAttributes.ReparsePoint };
        foreach (var file in new DirectoryInfo(path).EnumerateFiles("*", options))
        {
            if (watch.Elapsed > Peek) return new PathAnswer(path, true, items, bytes, false);
            items++;
            bytes += file.Length;
        }
        return new PathAnswer(path, true, items, bytes, true);
    }

    private static long? RoomAt(string folder)
    {
        var at = folder;
        while (at.Length > 1 && !Directory.Exists(at)) at = Path.GetDirectoryName(at) ?? "/";
        try
        {
            return new FolderPlace(at).FreeBytes();
        }
        catch (PlaceException)
        {
            return null;
        }
    }

    private static string Word(Enum value) => Kebab.From(value.ToString());
}
