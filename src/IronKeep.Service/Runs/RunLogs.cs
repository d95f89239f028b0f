using System.Text;
using System.Text.Json;
using IronKeep.Contracts;
using IronKeep.Core.Quantities;
using IronKeep.Runs;
using IronKeep.Service.Hosting;
using Microsoft.Extensions.Options;

namespace IronKeep.Service.Runs;

/// <summary>The logs of runs: a file each, one JSON object a line, readable while the run works.</summary>
public sealed class RunLogs(IOptions<ServiceSettings> settings, TimeProvider clock, ILogger<RunLogs> log)
{
    private const int LinesAtOnce = 1000;

    /// <summary>The log of a run, to be written. Never fails: a run must not be lost because its log cannot be kept.</summary>
    public RunLogFile Open(long runId) => new(PathOf(runId), clock, log);

    /// <summary>Lines from a position (the first line is 0) that are at least so severe, at most 1000 at once; Next is where the rest begins.</summary>
    public RunLogAnswer Read(long runId, int from, LogSeverity least = LogSeverity.Info)
    {
        var path = PathOf(runId);
        if (!File.Exists(path)) return new RunLogAnswer([], from, false);
        using var stream = new FileStream(path, FileMode.Open, FileAccess.Read, FileShare.ReadWrite | FileShare.Delete);
        using var reader = new StreamReader(stream);
        var lines = new List<RunLogLine>();
        var next = 0;
        while (reader.ReadLine() is { } text)
        {
            if (next++ < from) continue;
            if (lines.Count == LinesAtOnce) return new RunLogAnswer(lines, next - 1, true);
            if (TryRead(text) is not { } line)
            {
                // The last line may be half written, and comes whole the next time; one with others behind it was torn by a crash.
                if (reader.Peek() < 0) return new RunLogAnswer(lines, next - 1, false);
                continue;
            }
            if (Kebab.Read<LogSeverity>(line.Severity) >= least) lines.Add(line);
        }
        return new RunLogAnswer(lines, Math.Max(next, from), false);
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

/// <summary>
/// One run's log while it is written. Safe for several threads; after ten thousand lines it only counts, and a disk that takes no line costs the
/// run nothing but the line.
/// </summary>
public sealed class RunLogFile : IDisposable
{
    private const int MostLines = 10_000;
    private readonly Lock gate = new();
    private readonly TimeProvider clock;
    private readonly ILogger log;
    private readonly string path;
    private FileStream? file;
    private int lines, lost;

    internal RunLogFile(string path, TimeProvider clock, ILogger log)
    {
        (this.path, this.clock, this.log) = (path, clock, log);
        lock (gate) TryOpen();
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

    private void TryOpen()
    {
        try
        {
            Directory.CreateDirectory(Path.GetDirectoryName(path)!);
            file = new FileStream(path, FileMode.OpenOrCreate, FileAccess.ReadWrite, FileShare.ReadWrite | FileShare.Delete, bufferSize: 0);
            // A line that a crash tore is ended, so that it tears no other.
            if (file.Length > 0)
            {
                file.Position = file.Length - 1;
                if (file.ReadByte() != '\n') file.WriteByte((byte)'\n');
            }
            file.Position = file.Length;
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            file?.Dispose();
            file = null;
            log.LogWarning("The log {Path} cannot be written: {Problem}", path, e.Message);
        }
    }

    private void Put(LogSeverity severity, string text)
    {
        if (file is null) TryOpen();
        try
        {
            if (lost > 0 && file is not null)
            {
                Line(LogSeverity.Warning, $"{lost} lines before this one could not be written");
                lost = 0;
            }
            if (file is null) lost++;
            else Line(severity, text);
        }
        catch (IOException)
        {
            lost++;
        }
    }

    private void Line(LogSeverity severity, string text)
    {
        var start = file!.Position;
        try
        {
            file.Write(Encoding.UTF8.GetBytes(JsonSerializer.Serialize(new RunLogLine(clock.GetUtcNow(), Kebab.Of(severity), text), ContractJson.Options) + "\n"));
        }
        catch (IOException)
        {
            // Half a line would hide the next.
            file.SetLength(start);
            file.Position = start;
            throw;
        }
    }

    public void Dispose()
    {
        lock (gate)
        {
            if (lines > MostLines) Put(LogSeverity.Warning, $"{lines - MostLines} lines were not kept");
            file?.Dispose();
            file = null;
        }
    }
}
