using System.Text;
using System.Text.Json;
using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Quantities;
using IronKeep.Core.Watching;
using IronKeep.Runs;

namespace IronKeep.Service.Runs;

/// <summary>
/// One run's log while it is written. Safe for several threads; after ten thousand lines it only counts, and a disk that takes no line
/// costs the run nothing but the line.
/// </summary>
public sealed class RunLogFile : IRunLog
{
    private const int MostLines = 10_000;
    private readonly Lock gate = new();
    private readonly TimeProvider clock;
    private readonly ILogger log;
    private readonly string path;
    private FileStream? file;
    private int lines,
        lost;

    internal RunLogFile(string path, TimeProvider clock, ILogger log)
    {
        (this.path, this.clock, this.log) = (path, clock, log);
        lock (gate)
            TryOpen();
    }

    public void Write(LogSeverity severity, string text) => Write(severity, text, null);

    /// <summary>A line that was said at another time than now.</summary>
    internal void Write(LogSeverity severity, string text, NodaTime.Instant? at)
    {
        lock (gate)
        {
            lines++;
            if (lines <= MostLines)
                Put(severity, text, at);
            else if (lines == MostLines + 1)
                Put(LogSeverity.Warning, $"the log has {MostLines} lines; further lines are only counted");
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
                if (file.ReadByte() != '\n')
                    file.WriteByte((byte)'\n');
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

    private void Put(LogSeverity severity, string text, NodaTime.Instant? at = null)
    {
        if (file is null)
            TryOpen();
        try
        {
            if (lost > 0 && file is not null)
            {
                Line(LogSeverity.Warning, $"{lost} lines before this one could not be written");
                lost = 0;
            }
            if (file is null)
                lost++;
            else
                Line(severity, text, at);
        }
        catch (IOException)
        {
            lost++;
        }
    }

    private void Line(LogSeverity severity, string text, NodaTime.Instant? at = null)
    {
        var start = file!.Position;
        try
        {
            file.Write(
                Encoding.UTF8.GetBytes(
                    JsonSerializer.Serialize(
                        new RunLogLine(at?.ToDateTimeOffset() ?? clock.GetUtcNow(), severity, text),
                        ContractJson.Options
                    ) + "\n"
                )
            );
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
            if (lines > MostLines)
                Put(LogSeverity.Warning, $"{lines - MostLines} lines were not kept");
            file?.Dispose();
            file = null;
        }
    }
}
