using System.Text.Json;
using IronKeep.Contracts;
using IronKeep.Core.Quantities;
using IronKeep.Runs;
using IronKeep.Service.Hosting;
using Microsoft.Extensions.Options;

namespace IronKeep.Service.Runs;

/// <summary>The logs of runs: a file each, one JSON object a line, readable while the run works.</summary>
public sealed class RunLogs(IOptions<ServiceSettings> settings, TimeProvider clock)
{
    public RunLogFile Open(long runId)
    {
        var path = PathOf(runId);
        Directory.CreateDirectory(Path.GetDirectoryName(path)!);
        return new RunLogFile(path, clock);
    }

    /// <summary>Lines from a position (the first line is 0) that are at least so severe, at most 1000.</summary>
    public RunLogAnswer Read(long runId, int from, LogSeverity least = LogSeverity.Info)
    {
        var path = PathOf(runId);
        if (!File.Exists(path)) return new RunLogAnswer([], from);
        using var stream = new FileStream(path, FileMode.Open, FileAccess.Read, FileShare.ReadWrite | FileShare.Delete);
        using var reader = new StreamReader(stream);
        var lines = new List<RunLogLine>();
        var next = 0;
        while (lines.Count < 1000 && reader.ReadLine() is { } text)
        {
            if (next++ < from) continue;
            // The last line may be half written; it comes whole the next time.
            if (TryRead(text) is not { } line) return new RunLogAnswer(lines, next - 1);
            if (Kebab.Read<LogSeverity>(line.Severity) >= least) lines.Add(line);
        }
        return new RunLogAnswer(lines, Math.Max(next, from));
    }

    /// <summary>Removes the logs of runs that were last written before an instant (UTC). The runs themselves stay.</summary>
    public void DropOlderThan(NodaTime.Instant before)
    {
        var root = Path.Combine(settings.Value.DataFolder, "run-logs");
        if (!Directory.Exists(root)) return;
        foreach (var file in new DirectoryInfo(root).EnumerateFiles("*.jsonl", SearchOption.AllDirectories))
            if (file.LastWriteTimeUtc < before.ToDateTimeUtc()) file.Delete();
    }

    private static RunLogLine? TryRead(string text)
    {
        try
        {
            return JsonSerializer.Deserialize<RunLogLine>(text, ContractJson.Options);
        }
        catch (JsonException)
        {
            return null;
        }
    }

    private string PathOf(long runId) => Path.Combine(settings.Value.DataFolder, "run-logs", $"{runId / 1000:d4}", $"{runId}.jsonl");
}

/// <summary>One run's log while it is written. Safe for several threads; after ten thousand lines it only counts.</summary>
public sealed class RunLogFile : IDisposable
{
    private const int MostLines = 10_000;
    private readonly Lock gate = new();
    private readonly StreamWriter writer;
    private readonly TimeProvider clock;
    private int lines;

    internal RunLogFile(string path, TimeProvider clock)
    {
        this.clock = clock;
        writer = new StreamWriter(new FileStream(path, FileMode.Append, FileAccess.Write, FileShare.ReadWrite | FileShare.Delete)) { AutoFlush = true };
    }

    public void Write(LogSeverity severity, string text)
    {
        lock (gate)
        {
            lines++;
            if (lines <= MostLines) Put(severity, text);
            else if (lines == MostLines + 1) Put(LogSeverity.Warning, $"the log has {MostLines} lines; further lines are only counted");
        }
    }

    private void Put(LogSeverity severity, string text) =>
        writer.WriteLine(JsonSerializer.Serialize(new RunLogLine(clock.GetUtcNow(), Kebab.Of(severity), text), ContractJson.Options));

    public void Dispose()
    {
        lock (gate)
        {
            if (lines > MostLines) Put(LogSeverity.Warning, $"{lines - MostLines} lines were not kept");
            writer.Dispose();
        }
    }
}
