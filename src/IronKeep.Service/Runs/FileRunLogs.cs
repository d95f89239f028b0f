using System.Text;
using System.Text.Json;
using IronKeep.Contracts;
using IronKeep.Core.Quantities;
using IronKeep.Core.Watching;
using IronKeep.Runs;
using IronKeep.Service.Basics;
using Microsoft.Extensions.Options;

namespace IronKeep.Service.Runs;

/// <summary>The logs of runs as files in the data folder, one JSON object a line, for a service that is alone on its catalogue.</summary>
public sealed class FileRunLogs(IOptions<ServiceSettings> settings, TimeProvider clock, ILogger<FileRunLogs> log) : IRunLogs
{
    private const int LinesAtOnce = 1000;

    public IRunLog Open(long runId) => new RunLogFile(PathOf(runId), clock, log);

    public Task<RunLogAnswer> ReadAsync(long runId, int from, LogSeverity least, CancellationToken cancel) =>
        Task.FromResult(Read(runId, from, least));

    private RunLogAnswer Read(long runId, int from, LogSeverity least)
    {
        var path = PathOf(runId);
        if (!File.Exists(path))
            return new RunLogAnswer([], from, false);
        using var stream = new FileStream(path, FileMode.Open, FileAccess.Read, FileShare.ReadWrite | FileShare.Delete);
        using var reader = new StreamReader(stream);
        var lines = new List<RunLogLine>();
        var next = 0;
        while (reader.ReadLine() is { } text)
        {
            if (next++ < from)
                continue;
            if (lines.Count == LinesAtOnce)
                return new RunLogAnswer(lines, next - 1, true);
            if (TryRead(text) is not { } line)
            {
                // The last line may be half written, and comes whole the next time; one with others behind it was torn by a crash.
                if (reader.Peek() < 0)
                    return new RunLogAnswer(lines, next - 1, false);
                continue;
            }
            if (line.Severity >= least)
                lines.Add(line);
        }
        return new RunLogAnswer(lines, Math.Max(next, from), false);
    }

    public Task DropOlderThanAsync(NodaTime.Instant before, CancellationToken cancel)
    {
        var root = Path.Combine(settings.Value.DataFolder, "run-logs");
        if (!Directory.Exists(root))
            return Task.CompletedTask;
        foreach (var file in new DirectoryInfo(root).EnumerateFiles("*.jsonl", SearchOption.AllDirectories))
            if (file.LastWriteTimeUtc < before.ToDateTimeUtc())
                file.Delete();
        return Task.CompletedTask;
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

    /// <summary>The runs that have a log.</summary>
    internal IEnumerable<long> Runs()
    {
        var root = Path.Combine(settings.Value.DataFolder, "run-logs");
        return Directory.Exists(root)
            ? Directory
                .EnumerateFiles(root, "*.jsonl", SearchOption.AllDirectories)
                .Select(f => long.Parse(Path.GetFileNameWithoutExtension(f), System.Globalization.CultureInfo.InvariantCulture))
                .Order()
            : [];
    }

    /// <summary>The log of a run, begun anew.</summary>
    internal RunLogFile Anew(long runId)
    {
        File.Delete(PathOf(runId));
        return new RunLogFile(PathOf(runId), clock, log);
    }

    private string PathOf(long runId) => Path.Combine(settings.Value.DataFolder, "run-logs", $"{runId / 1000:d4}", $"{runId}.jsonl");
}
