using System.Collections.Concurrent;
using System.Security.Cryptography;
using System.Text.Json;
using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Watching;
using IronKeep.Service.Basics;
using IronKeep.Service.Charters;
using IronKeep.Service.Machines;
using IronKeep.Stores.Sessions;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace IronKeep.Service.Hearing;

/// <summary>
/// Watched jobs whose machine has an agent are heard of there: it follows their logs, and passes on what their wrapped commands say. What
/// it says is believed of its own machine's jobs alone, and only of sources that they have.
/// </summary>
public sealed class HearingThere(
    CharterInForce inForce,
    HearingDesk desk,
    UnreadLogs unread,
    IDbContextFactory<KeepContext> catalogue,
    TimeProvider clock,
    ILogger<HearingThere> log
) : IHearingThere
{
    private const int MostReports = 500,
        MostProblem = 500,
        MostName = 200;

    /// <summary>A clock that is farther off is corrected by whole minutes, and what it says matched within as much.</summary>
    private static readonly Duration ClockOff = Duration.FromMinutes(2);
    private readonly ConcurrentDictionary<string, (long Revision, HeardJobs Jobs)> made = new();

    /// <inheritdoc/>
    public async Task<HeardJobs?> OfAsync(string machine, string? mark, CancellationToken cancel)
    {
        var revision = inForce.Revision;
        if (!made.TryGetValue(machine, out var last) || last.Revision != revision)
            made[machine] = last = (revision, Make(machine));
        if (last.Jobs.Mark == mark)
            return null;
        var names = last.Jobs.Jobs.Where(j => j.Logs.Count > 0).Select(j => j.Job).ToArray();
        if (names.Length == 0)
            return last.Jobs;
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        var ends = await db
            .Runs.AsNoTracking()
            .Where(r => r.Kind == RunKind.Watched && r.Machine == machine && r.State == RunState.Ended && names.Contains(r.Job!))
            .GroupBy(r => r.Job!)
            .Select(g => new { Job = g.Key, Ended = g.Max(r => r.Ended) })
            .ToDictionaryAsync(e => e.Job, e => e.Ended, cancel);
        return last.Jobs with
        {
            Jobs = [.. last.Jobs.Jobs.Select(j => j with { HeardUntil = ends.GetValueOrDefault(j.Job)?.ToDateTimeOffset() })],
        };
    }

    private HeardJobs Make(string machine)
    {
        var charter = inForce.Charter;
        IReadOnlyList<HeardJob> jobs =
        [
            .. charter
                .Placed.All.Where(j => j.Watched && j.Machine == machine)
                .OrderBy(j => j.Name, StringComparer.Ordinal)
                .Select(j => new HeardJob(
                    j.Name,
                    j.HeardBy.Contains(EvidenceSource.Log) ? [.. j.Logs] : [],
                    CheckInReports.RulesOf(charter, j),
                    charter.ZoneOf(j).Id,
                    null
                )),
        ];
        var mark = SHA256.HashData(JsonSerializer.SerializeToUtf8Bytes(jobs, ContractJson.Options));
        return new HeardJobs(Convert.ToHexStringLower(mark.AsSpan(0, 16)), jobs);
    }

    /// <inheritdoc/>
    public async Task TakeAsync(string machine, HeardRequest request, CancellationToken cancel)
    {
        if (request.Reports.Count > MostReports || request.Problems.Count > MostReports)
            throw new ArrivalRefusedException(ArrivalFault.Wrong, "what was sent says more at once than is taken");
        var now = clock.Now();
        var ahead = Instant.FromDateTimeOffset(request.Now) - now;
        var isOff = ahead > ClockOff || ahead < -ClockOff;
        var correction = isOff ? Duration.FromMinutes(Math.Round(ahead.TotalMinutes)) : Duration.Zero;
        var reports = new List<Report>();
        foreach (var said in request.Reports)
            if (WhyNot(machine, said) is { } not)
                log.LogWarning(
                    "What {Machine} heard of {Job} is not taken: {Why}",
                    machine,
                    StrangersWords.OneLine(said.Job, MostName),
                    not
                );
            else
                reports.Add(Of(machine, said, correction, now) with { Slack = isOff ? ClockOff : Duration.Zero });
        if (reports.Count > 0)
            await desk.TakeAllAsync(reports);
        foreach (var (job, problem) in request.Problems)
            if (IsHeardThere(machine, job, EvidenceSource.Log))
                await unread.TellAsync(job, machine, problem is null ? null : StrangersWords.OneLine(problem, MostProblem), isThere: true);
    }

    private bool IsHeardThere(string machine, string job, EvidenceSource source) =>
        inForce.Charter.Placed.Find(job, machine) is { } declared && declared is { Watched: true } && declared.HeardBy.Contains(source);

    private string? WhyNot(string machine, HeardReport said) =>
        said.Source is not (EvidenceSource.Log or EvidenceSource.CheckIn) ? "an agent hears by logs and by wrapped commands alone"
        : !IsHeardThere(machine, said.Job, said.Source) ? "it is no watched job of this machine, or is not heard of that way"
        : said.Said.Id is null ? "it has no id"
        : CheckInReports.Problem(said.Said);

    private static Report Of(string machine, HeardReport said, Duration correction, Instant now)
    {
        var request = said.Said;
        if (correction != Duration.Zero)
            request = request with { At = Corrected(request.At), Began = Corrected(request.Began) };
        var report = CheckInReports.Of(said.Job, machine, request, now) with { Source = said.Source, Id = $"agent {machine} {request.Id}" };
        // A log says its code among its lines, or none.
        return said.Source == EvidenceSource.Log ? report with { ExitCode = null } : report;

        DateTimeOffset? Corrected(DateTimeOffset? at) =>
            at is { } time ? (Instant.FromDateTimeOffset(time) - correction).ToDateTimeOffset() : null;
    }
}
