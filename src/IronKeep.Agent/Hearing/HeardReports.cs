using System.Globalization;
using System.Text.Json;
using IronKeep.Contracts;
using IronKeep.Stores.Posix;

namespace IronKeep.Agent.Hearing;

/// <summary>
/// What was heard of watched jobs on this machine and the service does not know yet: a file each, in the order in which it was heard, on
/// the disk from before anything is sent until the service has it.
/// </summary>
internal sealed class HeardReports(string folder, TextWriter log)
{
    private const string Ending = ".json";
    private const int MostKept = 20_000,
        MostSent = 100;

    /// <summary>What a body may have, with room for what stands around the reports (bytes).</summary>
    internal const int MostOfBody = 700_000;
    private const long MostBytes = 256L * 1024 * 1024;
    private readonly Lock door = new();
    private long last;
    private int count = -1;
    private long bytes;

    /// <summary>Whether no more is kept until the service has taken some: what is to be heard stays where it is.</summary>
    public bool IsFull
    {
        get
        {
            lock (door)
            {
                CountAtFirst();
                return count >= MostKept || bytes >= MostBytes;
            }
        }
    }

    /// <summary>Keeps a report behind those before it; on the disk when this returns.</summary>
    public void Put(HeardReport report)
    {
        lock (door)
        {
            CountAtFirst();
            // Later than the one before, also when the clock stands still or goes back between two.
            last = Math.Max(last + 1, DateTime.UtcNow.Ticks);
            var text = AgentJson.Write(report);
            DurableFile.Write(Path.Combine(folder, last.ToString("D20", CultureInfo.InvariantCulture) + Ending), text);
            (count, bytes) = (count + 1, bytes + text.Length);
        }
    }

    /// <summary>
    /// Tells the service all of it, and what is in the way of hearing more. Throws <see cref="LineException"/> when it is away; then the
    /// rest stays.
    /// </summary>
    public async Task SayAsync(ServiceLine line, IReadOnlyList<HeardProblem> problems, CancellationToken cancel)
    {
        while (true)
        {
            var (files, reports) = Next();
            if (reports.Count == 0 && problems.Count == 0)
                return;
            var refused = "";
            try
            {
                await line.PostAsync<HeardRequest, CopyReportAnswer>(
                    "heard",
                    new HeardRequest(DateTimeOffset.UtcNow, reports, problems),
                    cancel
                );
            }
            catch (LineException e) when (e.Fault == LineFault.Wrong && reports.Count > 0)
            {
                // It will not be taken later either, and must not keep all else.
                refused = ".refused";
                await log.WriteLineAsync($"The service does not take what was heard of watched jobs ({e.Message}); it stays in {folder}");
            }
            problems = [];
            lock (door)
                foreach (var (file, length) in files)
                {
                    if (refused.Length > 0)
                        File.Move(file, file + refused, overwrite: true);
                    else
                        File.Delete(file);
                    (count, bytes) = (count - 1, bytes - length);
                }
        }
    }

    private (List<(string File, long Length)> Files, List<HeardReport> Reports) Next()
    {
        var (files, reports, length) = (new List<(string, long)>(), new List<HeardReport>(), 0L);
        lock (door)
        {
            CountAtFirst();
            if (count == 0)
                return (files, reports);
            foreach (var file in Directory.GetFiles(folder, "*" + Ending).Order(StringComparer.Ordinal).Take(MostSent))
            {
                var text = File.ReadAllText(file);
                length += System.Text.Encoding.UTF8.GetByteCount(text);
                if (files.Count > 0 && length > MostOfBody)
                    break;
                try
                {
                    reports.Add(AgentJson.Read<HeardReport>(text));
                    files.Add((file, text.Length));
                }
                catch (JsonException e)
                {
                    log.WriteLine($"{file} says what was heard of a watched job, and is damaged ({e.Message}); it is set aside");
                    File.Move(file, file + ".damaged", overwrite: true);
                    (count, bytes) = (count - 1, bytes - text.Length);
                }
            }
        }
        return (files, reports);
    }

    private void CountAtFirst()
    {
        if (count >= 0)
            return;
        Directory.CreateDirectory(folder, OwnFiles.Folder);
        var files = new DirectoryInfo(folder).GetFiles("*" + Ending);
        (count, bytes) = (files.Length, files.Sum(f => f.Length));
        if (
            files.Length > 0
            && long.TryParse(files.Max(f => f.Name)!.Split('.')[0], NumberStyles.None, CultureInfo.InvariantCulture, out var n)
        )
            last = n;
    }
}
