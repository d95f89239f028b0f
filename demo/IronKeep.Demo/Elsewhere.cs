using System.Globalization;
using System.Text;
using IronKeep.Core.Charters;
using IronKeep.Core.Watching;
using IronKeep.Following.Syslog;
using IronKeep.Service.Hearing;
using NodaTime;

namespace IronKeep.Demo;

/// <summary>
/// What avocet and knot do by themselves, and what they leave behind: check-ins, a log that grows, lines of syslog, dated files. Among
/// thirty honest nights there is a partial one, one that said it was done and left nothing, one that never ended, and a week in which no
/// dump comes any more.
/// </summary>
internal sealed class Elsewhere(string data, string stores, DateTimeZone zone, HearingDesk hearing, SyslogSpool spool)
{
    private const int Partial = 12,
        LeftNothing = 18,
        NeverEnded = 24,
        Unreachable = 10,
        LastDump = Nights.Count - 8;

    public static void Begin(string data, string stores)
    {
        foreach (var folder in new[] { $"{data}/avocet", $"{stores}/knot-dumps", $"{stores}/avocet-sweeps" })
            Directory.CreateDirectory(folder);
        // What lay there before anybody looked after it, and what is no dump at all.
        File.WriteAllText($"{stores}/knot-dumps/README", "Dumps of the counts, written by knot every night.\n");
    }

    /// <summary>What a job's run of a night leaves behind, some minutes after it was due.</summary>
    public async Task SayAsync(PlacedJob job, int night, Instant due)
    {
        switch (job.Name)
        {
            case "counts-dump":
                if (night <= LastDump)
                    Write(
                        $"{stores}/knot-dumps/counts-{Local(due, "uuuu-MM-dd'T'HHmm")}.sql.gz",
                        420_000 + night * 900,
                        due + Duration.FromMinutes(6)
                    );
                break;
            case "camera-sweep":
                Sweep(night, due);
                break;
            case "reed-sync":
                spool.Take([.. Sync(night).Select(t => new SyslogMessage("knot", "reed-sync", t))], "knot");
                break;
            default:
                if (Troubles.IsSilent(job.Machine, night))
                    break;
                await hearing.TakeAllAsync([
                    new Report(job.Name, job.Machine, EvidenceSource.CheckIn, CheckInState.Ended, due + Troubles.SaysAfter)
                    {
                        ExitCode = Troubles.ExitCodeOf(job.Machine, night),
                        Began = due,
                        Log = Troubles.LogOf(job.Machine, night),
                    },
                ]);
                break;
        }
    }

    private void Sweep(int night, Instant due)
    {
        var began = due + Duration.FromSeconds(3 + night % 7);
        var lines = new StringBuilder().Append(
            CultureInfo.InvariantCulture,
            $"=== sweep of hide cameras started {Local(began, "uuuu-MM-dd HH:mm:ss")}\n"
        );
        if (night == NeverEnded)
            lines.Append("camera 1: 118 pictures\n");
        else
        {
            var took = Duration.FromSeconds(190 + night * 37 % 90);
            if (night == Partial)
                lines.Append("warning: camera 2 does not answer, its pictures are left for tomorrow\n");
            lines.Append(
                CultureInfo.InvariantCulture,
                $"{(night == Partial ? 251 : 380 + night * 13 % 40)} pictures, {(night == Partial ? 4 : 6)}.{night % 10} MB copied in "
                    + $"{took.Minutes}m{took.Seconds}s\n"
            );
            lines.Append(CultureInfo.InvariantCulture, $"=== sweep finished {Local(began + took, "uuuu-MM-dd HH:mm:ss")}\n");
            if (night != LeftNothing)
                Write(
                    $"{stores}/avocet-sweeps/{Local(due, "uuuu")}/hides_{Local(due, "uuuuMMdd'-'HHmm")}.tar",
                    night == Partial ? 410_000 : 640_000 + night * 13 % 40 * 1000,
                    began + took
                );
        }
        File.AppendAllText($"{data}/avocet/camera-sweep.log", lines.ToString());
    }

    private static IEnumerable<string> Sync(int night) =>
        night == Unreachable
            ? ["sync of the reed beds begins", "connection to avocet lost: no route to host", "sync ends"]
            : ["sync of the reed beds begins", $"{120 + night % 9} files, 4.{night % 10} MB sent", "sync ends"];

    private string Local(Instant at, string form) => at.InZone(zone).ToString(form, CultureInfo.InvariantCulture);

    private static void Write(string path, int size, Instant ended)
    {
        Directory.CreateDirectory(Path.GetDirectoryName(path)!);
        var bytes = new byte[size];
        new Random(size).NextBytes(bytes);
        File.WriteAllBytes(path, bytes);
        File.SetLastWriteTimeUtc(path, ended.ToDateTimeUtc());
    }
}
