using IronKeep.Catalogue;
using IronKeep.Core.Charters;
using IronKeep.Core.Machines;
using IronKeep.Core.Watching;
using IronKeep.Service.Alerts;
using IronKeep.Service.Basics;
using IronKeep.Service.Charters;
using IronKeep.Service.Machines;
using IronKeep.Service.Timetable;
using Microsoft.Extensions.Options;
using NodaTime;

namespace IronKeep.Service.Upkeep;

/// <summary>
/// Tells of services that jobs watch and that are down, or were and had to be started again; closed when one has been up for an hour since.
/// </summary>
public sealed class DownServices(CharterInForce inForce, AlertBook alerts, MachineStandings standings, TimeProvider clock) : ILook
{
    private static readonly Duration QuietAfter = Duration.FromHours(1);
    private readonly Dictionary<Subject, string> said = [];

    public Duration Every { get; } = Duration.FromMinutes(1);

    public async Task LookAsync(KeepContext db, CancellationToken cancel)
    {
        var charter = inForce.Charter;
        var open = await AlertBook.OpenAsync(db, AlertClass.Down, cancel);
        var watched = new HashSet<Subject>();
        foreach (var job in charter.Placed.All.Where(j => j.WatchesService is not null))
        {
            var machine = job.Machine;
            var subject = Subject.OfJob(job.Name, machine);
            watched.Add(subject);
            // Of a machine that is not heard of nothing new is known.
            if (standings.ServicesOf(machine).FirstOrDefault(s => s.Job == job.Name) is not { } standing)
                continue;
            if (Words(standing, machine, charter.Zone) is not { } words)
            {
                said.Remove(subject);
                if (open.Contains(subject))
                    await alerts.CloseAsync(subject, [AlertClass.Down], cancel);
            }
            else if (!open.Contains(subject) || said.GetValueOrDefault(subject) != words)
            {
                said[subject] = words;
                await alerts.RaiseAsync(
                    new Matter(
                        subject,
                        AlertClass.Down,
                        words,
                        $"Look on {machine} why it went down and whether it stays up; what says so is step {job.WatchesService}. This "
                            + "closes when it was up for an hour."
                    )
                    {
                        CountsOnce = true,
                    },
                    cancel
                );
            }
        }
        foreach (var subject in open.Where(s => !watched.Contains(s)))
            await alerts.CloseAsync(subject, [AlertClass.Down], cancel);
    }

    /// <summary>What is to be told of it; null: nothing.</summary>
    private string? Words(ServiceStanding s, string machine, DateTimeZone zone)
    {
        var since = Instant.FromDateTimeOffset(s.Since).Local(zone);
        if (s.Up is null)
            return $"whether the service that {s.Job} stops is up on {machine} cannot be told: {s.Problem ?? "it was not asked yet"}";
        if (s.Up == false)
            return $"the service that {s.Job} stops is down on {machine} since {since}: {s.Problem ?? "it could not be started"}";
        return s.Starts.Count > 0 && clock.Now() - Instant.FromDateTimeOffset(s.Starts[^1]) < QuietAfter
            ? $"the service that {s.Job} stops was down on {machine} and was started again "
                + $"{Instant.FromDateTimeOffset(s.Starts[^1]).Local(zone)}"
            : null;
    }
}
