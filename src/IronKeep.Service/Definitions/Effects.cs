using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Forecasts;
using IronKeep.Core.Quantities;
using IronKeep.Core.Retention;
using IronKeep.Core.Schedules;
using IronKeep.Runs.Backups;
using IronKeep.Service.Basics;
using IronKeep.Service.Charters;
using IronKeep.Service.Copies;
using IronKeep.Service.Forecasts;
using IronKeep.Service.Prunes;
using IronKeep.Service.Stores;
using IronKeep.Service.Telling;
using IronKeep.Stores.Places;
using Microsoft.Extensions.Options;
using NodaTime;

namespace IronKeep.Service.Definitions;

/// <summary>What a draft of one object would mean: shown while somebody types, before anything is saved.</summary>
public sealed class Effects(
    PruneDesk prunes,
    ForecastDesk forecasts,
    OpenStores stores,
    Consequences consequences,
    Reach reach,
    CharterInForce inForce,
    TimeProvider clock
)
{
    private const int DueShown = 5;

    /// <summary>How far ahead a draft is played while somebody types.</summary>
    public const int MostDaysAhead = 400;
    private static readonly TimeSpan Peek = TimeSpan.FromMilliseconds(250);

    public async Task<PreviewAnswer> OfAsync(string kind, string name, Draft draft, Instant? on, CancellationToken cancel)
    {
        var empty = new PreviewAnswer(draft.Mistakes, [], draft.Yaml, [], null, [], [], null) { Consequences = [] };
        if (draft.Reading.Charter is not { } charter)
            return empty;
        var answer = empty with
        {
            Changes = CharterAnswers.ToAnswers(CharterDiff.Compare(inForce.Charter, charter)),
            Consequences = await consequences.OfAsync(charter, cancel),
            Reach = await reach.OfAsync(charter, cancel),
            Machines = kind switch
            {
                "job" => [.. charter.Placed.Named(name).Select(j => j.Machine)],
                "variant" => [.. charter.Placed.Named(charter.Variants[name].Job).Select(j => j.Machine).Where(TakenByVariant)],
                "line" => SharedLines.Of(charter).MachinesOf(name),
                _ => null,
            },
        };
        return kind switch
        {
            "job" when charter.Placed.Named(name).FirstOrDefault() is { } job => await JobAsync(answer, charter, job, on, cancel),
            "policy" => await PolicyAsync(answer, charter, charter.Policies[name], on, cancel),
            "store" => answer with { RoomBytes = await RoomAtAsync(charter.Stores[name]) },
            CharterFields.Settings when charter.DutyMail is { } mail => answer with { NextDue = NextDue(new DueTimes(mail, charter.Zone)) },
            _ => answer,
        };

        bool TakenByVariant(string machine) =>
            charter.Variants[name].Takes(charter.Machines.GetValueOrDefault(machine) ?? new MachineDefinition(machine, null, null));
    }

    private async Task<PreviewAnswer> JobAsync(PreviewAnswer answer, Charter charter, PlacedJob job, Instant? on, CancellationToken cancel)
    {
        var due = charter.DueTimesOf(job);
        answer = answer with
        {
            NextDue = due is null ? [] : NextDue(due),
            When = due?.Schedule.Words,
            Remarks = due?.Schedule.Remarks ?? [],
        };
        if (job.Into.Length == 0)
            return answer;
        var policy = charter.Policies[job.Policy];
        return answer with
        {
            SteadyState = Plays(charter, policy, charter.HeadOf(job)),
            // Of another machine's disks nothing is known here.
            Paths = job.Machine == charter.Own ? [.. job.Takes.Select(t => LookAt(job, t))] : [],
            Policies = await EffectsAsync(charter, [job], policy, on, cancel),
        };
    }

    private async Task<PreviewAnswer> PolicyAsync(
        PreviewAnswer answer,
        Charter charter,
        PolicyDefinition policy,
        Instant? on,
        CancellationToken cancel
    )
    {
        var jobs = charter.Placed.All.Where(j => j.Policy == policy.Name).ToList();
        return answer with
        {
            SteadyState = Plays(charter, policy, jobs.Count > 0 ? charter.HeadOf(jobs[0]) : null),
            Policies = await EffectsAsync(charter, jobs.Take(DueShown), policy, on, cancel),
        };
    }

    private string Plays(Charter charter, PolicyDefinition policy, PlacedJob? head) =>
        SteadyState.Play(policy.Keep, policy.AtLeast, policy.Zone ?? charter.Zone, head?.When, clock.Now()).Words
        + (head?.When is null ? ", if a copy is made each day" : $", with a copy {head.When}");

    private async Task<IReadOnlyList<PolicyEffectAnswer>> EffectsAsync(
        Charter charter,
        IEnumerable<PlacedJob> jobs,
        PolicyDefinition policy,
        Instant? on,
        CancellationToken cancel
    )
    {
        if (on is { } later)
            return await LaterAsync(charter, [.. jobs], later, cancel);
        var effects = new List<PolicyEffectAnswer>();
        foreach (var (job, store) in jobs.SelectMany(j => j.Into.Select(s => (j, s))))
        {
            effects.Add((await prunes.DraftAsync(job, store, policy, cancel)).Copies.ToEffect(job.Words, store));
        }
        return effects;
    }

    /// <summary>The same at a later instant: the draft is played until then, as if each job was pruned after every success.</summary>
    private async Task<IReadOnlyList<PolicyEffectAnswer>> LaterAsync(
        Charter charter,
        List<PlacedJob> jobs,
        Instant on,
        CancellationToken cancel
    )
    {
        // A job that follows others is played with all of them.
        var only = new HashSet<string>();
        foreach (var job in jobs)
            for (PlacedJob? at = job; at is not null; at = charter.Placed.Find(at.After, at.Machine))
                only.Add(at.Words);
        var days = (int)Math.Clamp(Math.Ceiling((on - clock.Now()).TotalDays), 1, MostDaysAhead);
        var forecast = Forecaster.Play(await forecasts.InputAsync(charter, days, cancel, only) with { PrunesByHandToo = true });
        return [.. jobs.SelectMany(j => j.Into.Select(store => forecast.VerdictsAt(j.Words, store, on).Copies.ToEffect(j.Words, store)))];
    }

    private IReadOnlyList<DueAnswer> NextDue(DueTimes due)
    {
        var now = clock.Now();
        return
        [
            .. due.Between(now, now + Duration.FromDays(3660))
                .Take(DueShown)
                .Select(d => new DueAnswer(d.ToDateTimeOffset(), d.Rfc3339(due.Zone))),
        ];
    }

    /// <summary>By the rules of a run: what is left out does not count.</summary>
    private static PathAnswer LookAt(PlacedJob job, string path)
    {
        var looked = Task.Factory.StartNew(
            () => SourceLook.Of([path], job.LeavesOut, job.OtherFileSystems, Peek),
            CancellationToken.None,
            TaskCreationOptions.LongRunning,
            TaskScheduler.Default
        );
        // A path on a disk that hangs is one that could not be looked through.
        if (!looked.Wait(4 * Peek))
            return new PathAnswer(path, true, 0, 0, false);
        return looked.Result is { } size
            ? new PathAnswer(path, true, size.Items, size.Bytes, size.Whole)
            : new PathAnswer(path, false, 0, 0, true);
    }

    private async Task<long?> RoomAtAsync(StoreDefinition store)
    {
        // Of a server nothing is asked while somebody types.
        if (store.LocalFolder is null)
            return null;
        try
        {
            return await stores.WithinAsync(store.Name, () =>
            {
                var at = store.Folder;
                while (at.Length > 1 && !Directory.Exists(at))
                    at = Path.GetDirectoryName(at) ?? "/";
                return new FolderPlace(at).FreeBytes();
            });
        }
        catch (PlaceException)
        {
            return null;
        }
    }
}
