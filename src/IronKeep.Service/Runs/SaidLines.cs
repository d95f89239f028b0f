using IronKeep.Contracts;
using IronKeep.Service.Basics;
using IronKeep.Stores.Sessions;

namespace IronKeep.Service.Runs;

/// <summary>The log of a run as an agent tells it: each line once, as one line, and not without end.</summary>
internal sealed class SaidLines(LiveRun live)
{
    private const int MostAtOnce = 1000,
        MostText = 4000;

    /// <summary>Lines of one run's log beyond which an agent is not written down any more.</summary>
    private const long MostLogged = 100_000;
    private long lines;

    /// <summary>
    /// Takes what is new of a report; what was said again because the answer was lost is passed over. For one caller at a time.
    /// </summary>
    public void Take(CopyReportRequest report)
    {
        if (report.Lines.Count > MostAtOnce)
            throw new ArrivalRefusedException(ArrivalFault.Wrong, "what was sent says more lines at once than is taken");
        for (var i = 0; i < report.Lines.Count; i++)
            if (report.First + i == lines && lines < MostLogged)
            {
                lines++;
                live.Log(report.Lines[i].Severity, Plain(report.Lines[i].Text));
            }
    }

    /// <summary>A number that can be shown and added up, whatever was said.</summary>
    public static long Count(long said) => Math.Clamp(said, 0, long.MaxValue / 4);

    public static string Plain(string text) => StrangersWords.OneLine(text, MostText);
}
