using IronKeep.Catalogue;
using IronKeep.Core.Charters;
using IronKeep.Core.Schedules;
using IronKeep.Core.Telling;
using IronKeep.Service.Basics;
using IronKeep.Service.Charters;
using IronKeep.Service.Duty;
using IronKeep.Service.Timetable;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace IronKeep.Service.Telling;

/// <summary>The duty report as a message, sent each day even when all is well, so that silence is noticed.</summary>
public sealed class DutyMail(DutyReport report, CharterInForce inForce, TellingDesk telling, TimeProvider clock) : ITimedWork
{
    public string What => "duty-mail";

    public IEnumerable<(string Store, Schedule When)> Times(Charter charter) => charter.DutyMail is { } when ? [("", when)] : [];

    public Task DoAsync(KeepContext db, string store, Instant due, CancellationToken cancel) => WriteAsync(db, cancel);

    /// <summary>Writes it down for every channel that the charter tells.</summary>
    private async Task WriteAsync(KeepContext db, CancellationToken cancel)
    {
        var duty = await report.MakeAsync(db, cancel);
        var to = Addressees.Of(inForce.Charter, inForce.Charter.Tells, clock.Now());
        await telling.WriteAsync(
            db,
            to,
            new Words(DutyPages.Title(duty), DutyPages.Text(duty), "duty-report", duty) { Html = DutyPages.Html(duty) },
            cancel
        );
    }
}
