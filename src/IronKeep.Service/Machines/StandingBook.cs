using System.Collections.Concurrent;
using System.Security.Cryptography;
using System.Text.Json;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Runs.Steps;
using IronKeep.Service.Basics;
using IronKeep.Service.Charters;
using NodaTime;

namespace IronKeep.Service.Machines;

/// <summary>
/// What agents do on their own while the service is away: the jobs that go into stores on their own disks alone. Source:
/// docs/semantics.md, section 2 (Planned runs, lateness, catch-up).
/// </summary>
public sealed class StandingBook(CharterInForce inForce, TimeProvider clock)
{
    /// <summary>How far ahead due times are told, and how many of one job at most.</summary>
    private static readonly Duration Ahead = Duration.FromDays(14),
        MadeAnewEvery = Duration.FromHours(1);
    private const int MostDues = 400;
    private readonly ConcurrentDictionary<string, (long Revision, Instant At, StandingOrders Orders)> made = new();

    /// <summary>What a machine does on its own; null when it knows that by its mark.</summary>
    public StandingOrders? Of(string machine, string? mark)
    {
        var (revision, now) = (inForce.Revision, clock.Now());
        if (!made.TryGetValue(machine, out var last) || last.Revision != revision || now < last.At || now - last.At > MadeAnewEvery)
            made[machine] = last = (revision, now, Make(machine, now));
        return last.Orders.Mark == mark ? null : last.Orders;
    }

    /// <summary>Whether an agent carries a job out on its own when the service is away.</summary>
    public static bool GoesOnAlone(Charter charter, PlacedJob job) =>
        job is { Watched: false, After: null, When: not null } && job.Into.All(s => charter.Stores[s].On == job.Machine);

    private StandingOrders Make(string machine, Instant now)
    {
        var charter = inForce.Charter;
        IReadOnlyList<StandingOrder> orders =
        [
            .. charter
                .Placed.At(machine)
                .Where(j => GoesOnAlone(charter, j))
                .OrderBy(j => j.Name, StringComparer.Ordinal)
                .Select(j => Order(charter, j, machine, now)),
        ];
        var mark = SHA256.HashData(JsonSerializer.SerializeToUtf8Bytes(orders, ContractJson.Options));
        return new StandingOrders(Convert.ToHexStringLower(mark.AsSpan(0, 16)), orders);
    }

    private static StandingOrder Order(Charter charter, PlacedJob job, string machine, Instant now)
    {
        var steps = charter.StepsOf(job);
        return new StandingOrder(
            job.Name,
            [.. job.Into.Select(s => Copy(charter, job, charter.Stores[s], machine))],
            steps.IsEmpty ? null : Steps(job, RunSteps.Of(steps)),
            [.. job.Needs.Select(n => n.Words)],
            [.. Dues(charter, job, machine, now)],
            job.StartLimit.ToDuration().TotalSeconds,
            job.WaitAfterReturn.ToDuration().TotalSeconds
        );
    }

    private static IEnumerable<DateTimeOffset> Dues(Charter charter, PlacedJob job, string machine, Instant now)
    {
        // Those of the last hour too: what was due while the line was just breaking is known.
        if (charter.DueTimesOf(job) is not { } times)
            yield break;
        var at = now - Duration.FromHours(1);
        for (var count = 0; count < MostDues && times.Next(at) is { } due && due - now < Ahead; count++, at = due)
            yield return due.ToDateTimeOffset();
    }

    private static CopyOrder Copy(Charter charter, PlacedJob job, StoreDefinition store, string machine) =>
        new(
            "",
            0,
            job.Name,
            store.Name,
            "",
            [.. job.Takes],
            [.. job.LeavesOut],
            job.LeavesOutCaches,
            job.OtherFileSystems,
            job.Compression,
            [
                .. job
                    .Streams.Select(s => charter.Steps[s])
                    .Select(s => new StreamWords(OrderEndpoints.Word(RunStep.Of(s)), s.KeepsAs ?? s.Name)),
            ],
            [.. job.StillAt.Select(s => s.ToString())],
            new LocalStore(store.Folder, machine, null)
        );

    private static StepsOrder Steps(PlacedJob job, RunSteps steps) =>
        new(
            "",
            0,
            job.Name,
            OrderEndpoints.Words(steps.Before),
            steps.Until is { } until ? OrderEndpoints.Word(until) : null,
            steps.Patience.TotalSeconds,
            OrderEndpoints.Words(steps.AfterSuccess),
            OrderEndpoints.Words(steps.AfterFailure),
            OrderEndpoints.Words(steps.AlwaysAfter)
        );
}

/// <summary>Takes what agents did on their own while the service was away.</summary>
public interface IJournals
{
    /// <summary>Notes what is new of it; said again it changes nothing.</summary>
    Task TakeAsync(string machine, JournalRequest journal, CancellationToken cancel);
}
