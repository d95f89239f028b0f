using Ical.Net;
using Ical.Net.CalendarComponents;
using Ical.Net.DataTypes;
using Ical.Net.Serialization;
using IronKeep.Core.Charters;
using IronKeep.Service.Basics;
using IronKeep.Service.Charters;
using Microsoft.Extensions.Options;

namespace IronKeep.Service.Timetable;

/// <summary>
/// The timetable as iCalendar (RFC 5545): an event for each expected due instant, in UTC. The instants are told one by one and not
/// as rules, because windows, spread and clock changes have been worked into them.
/// </summary>
public sealed class TimetableCalendar(CharterInForce inForce, TimeProvider clock, IOptions<ServiceSettings> settings)
{
    public const int MostDays = 366;
    public const string ContentType = "text/calendar; charset=utf-8";

    public string Write(int days)
    {
        var now = clock.Now();
        var own = settings.Value.Machine;
        var calendar = new Calendar { ProductId = "-//Iron Keep//Timetable//EN" };
        calendar.AddProperty("X-WR-CALNAME", $"Backups of {own}");
        foreach (var entry in TimetableEndpoints.Entries(inForce.Charter, now, now + NodaTime.Duration.FromDays(days)))
        {
            calendar.Events.Add(
                new CalendarEvent
                {
                    // The identity of a planned run: it stays the same however often the calendar is read.
                    Uid = $"{entry.Job}.{entry.Machine}.{entry.Utc.UtcDateTime:yyyyMMdd'T'HHmmss'Z'}@ironkeep",
                    DtStamp = new CalDateTime(now.ToDateTimeUtc(), "UTC"),
                    Start = new CalDateTime(entry.Utc.UtcDateTime, "UTC"),
                    Duration = Duration.FromMinutes(15),
                    Summary = $"{entry.Job} on {entry.Machine}",
                    Description =
                        entry.Into.Count == 0
                            ? $"Watched job, due {entry.Local}"
                            : $"Backup into {string.Join(" and ", entry.Into)}, due {entry.Local}",
                }
            );
        }
        return new CalendarSerializer().SerializeToString(calendar) ?? "";
    }
}
