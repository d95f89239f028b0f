using System.Text;
using System.Text.Json;
using IronKeep.Agent.Hearing;
using IronKeep.Contracts;
using IronKeep.Core.Watching;
using IronKeep.Stores.Posix;

namespace IronKeep.Agent;

/// <summary>
/// What the agent does on its own, on the disk from before it begins until the service knows: a file for each, so that nothing is done
/// twice and nothing is forgotten, whatever is killed.
/// </summary>
internal sealed class Journal(string folder, TextWriter log)
{
    private const int MostSent = 200;
    private readonly Lock door = new();

    /// <summary>All of it, the earliest due first. What cannot be read is set aside and said.</summary>
    public IReadOnlyList<JournalEntry> All()
    {
        lock (door)
        {
            var all = new List<JournalEntry>();
            foreach (var file in Directory.Exists(folder) ? Directory.GetFiles(folder, "*.json") : [])
            {
                try
                {
                    all.Add(AgentJson.Read<JournalEntry>(File.ReadAllText(file)));
                }
                catch (JsonException e)
                {
                    log.WriteLine($"{file} says what this machine did on its own, and is damaged ({e.Message}); it is set aside");
                    File.Move(file, file + ".damaged", overwrite: true);
                }
            }
            return [.. all.OrderBy(e => e.Due)];
        }
    }

    /// <summary>Notes it durably.</summary>
    public void Note(JournalEntry entry)
    {
        lock (door)
        {
            Directory.CreateDirectory(folder, OwnFiles.Folder);
            DurableFile.Write(Path.Combine(folder, $"{entry.Id}.json"), AgentJson.Write(entry));
        }
    }

    /// <summary>What was begun before this start and never ended was interrupted.</summary>
    public void EndInterrupted()
    {
        foreach (var entry in All().Where(e => e.Ended is null))
            Note(
                entry with
                {
                    Ended = DateTimeOffset.UtcNow,
                    Outcome = Outcome.Failed,
                    Failure = FailureClass.Interrupted,
                    Sentence = "interrupted: the agent or its machine was stopped in the middle of it",
                }
            );
    }

    /// <summary>
    /// Tells the service what has ended; it is forgotten when that knows it, and <paramref name="told"/> has noted that it was in
    /// contact: else what was forgotten would be done again when the line breaks at this moment.
    /// </summary>
    public async Task SayAsync(ServiceLine line, Action told, CancellationToken cancel)
    {
        while (All().Where(e => e.Ended is not null).Take(MostSent).ToList() is { Count: > 0 } ended)
        {
            var length = 0L;
            var part = ended
                .TakeWhile((e, at) => (length += Encoding.UTF8.GetByteCount(AgentJson.Write(e))) < HeardReports.MostOfBody || at == 0)
                .ToList();
            var refused = "";
            try
            {
                await line.PostAsync<JournalRequest, CopyReportAnswer>("journal", new JournalRequest(DateTimeOffset.UtcNow, part), cancel);
            }
            catch (LineException e) when (e.Fault == LineFault.Wrong)
            {
                // It will not be taken later either, and must not keep us from all else.
                refused = ".refused";
                await log.WriteLineAsync($"The service does not take what this machine did on its own ({e.Message}); it stays in {folder}");
            }
            told();
            lock (door)
                foreach (var file in part.Select(e => Path.Combine(folder, $"{e.Id}.json")))
                    if (refused.Length > 0)
                        File.Move(file, file + refused, overwrite: true);
                    else
                        File.Delete(file);
        }
    }
}
