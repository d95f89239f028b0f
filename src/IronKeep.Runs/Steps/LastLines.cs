using System.Text;
using IronKeep.Core.Watching;

namespace IronKeep.Runs.Steps;

/// <summary>
/// The last lines of what a command says, however much that is. All of it is read, so that the command never waits for us. Safe for
/// several threads.
/// </summary>
internal sealed class LastLines(int most, int mostLetters)
{
    private readonly Queue<string> lines = [];
    private long dropped;

    /// <summary>The last line that says something; null: there is none.</summary>
    public string? Last
    {
        get
        {
            lock (lines)
                return lines.LastOrDefault();
        }
    }

    public async Task ReadAsync(StreamReader from)
    {
        var (buffer, line) = (new char[4096], new StringBuilder());
        try
        {
            for (int read; (read = await from.ReadAsync(buffer)) > 0; )
                foreach (var c in buffer.AsSpan(0, read))
                {
                    if (c == '\n')
                        Add(line);
                    else if (!char.IsControl(c) && line.Length < mostLetters)
                        line.Append(c);
                }
            Add(line);
        }
        catch (Exception e) when (e is IOException or ObjectDisposedException)
        {
            // The process was let go of while something that it left behind still held its output.
        }
    }

    public void Say(string step, RunLog log)
    {
        lock (lines)
        {
            if (dropped > 0)
                log(LogSeverity.Info, $"{step}: {dropped} lines before these are left out");
            foreach (var line in lines)
                log(LogSeverity.Info, $"{step}: {line}");
        }
    }

    private void Add(StringBuilder line)
    {
        if (line.Length == 0)
            return;
        lock (lines)
        {
            lines.Enqueue(line.ToString());
            if (lines.Count > most)
            {
                lines.Dequeue();
                dropped++;
            }
        }
        line.Clear();
    }
}
