using System.Globalization;
using System.Text.Json;
using IronKeep.Stores.Posix;

namespace IronKeep.Runs.Steps;

/// <summary>
/// What runs that have begun their steps owe, on the disk: who is killed, or whose machine restarts, finds it there at the next start. A
/// folder of its own, for its owner alone. Safe for several threads.
/// </summary>
public sealed class OwedSteps(string folder)
{
    /// <summary>Held by whoever begins to stop something, and by whoever starts something again.</summary>
    private SemaphoreSlim Quiet { get; } = new(1);

    /// <summary>Notes it durably; from here on it is owed.</summary>
    public Task NoteAsync(OwedRun owed, CancellationToken cancel) =>
        QuietlyAsync(
            () =>
            {
                Directory.CreateDirectory(folder, OwnFiles.Folder);
                DurableFile.Write(FileOf(owed.Run), JsonSerializer.Serialize(owed, StepContext.Default.OwedRun));
                return Task.CompletedTask;
            },
            cancel
        );

    /// <summary>Does something during which no run begins to stop anything.</summary>
    public async Task QuietlyAsync(Func<Task> act, CancellationToken cancel)
    {
        await Quiet.WaitAsync(cancel);
        try
        {
            await act();
        }
        finally
        {
            Quiet.Release();
        }
    }

    /// <summary>Whether a run of the job has begun its steps and not ended them; what cannot be read may be one.</summary>
    public bool IsOwed(string job)
    {
        var (owed, unreadable) = All();
        return unreadable.Count > 0 || owed.Any(o => o.Job == job);
    }

    /// <summary>It was done.</summary>
    public void Done(long run) => File.Delete(FileOf(run));

    /// <summary>All that is owed, the earliest first; what cannot be read is named.</summary>
    public (IReadOnlyList<OwedRun> Owed, IReadOnlyList<string> Unreadable) All()
    {
        var (owed, unreadable) = (new List<OwedRun>(), new List<string>());
        foreach (var file in Directory.Exists(folder) ? Directory.GetFiles(folder, "*.json") : [])
        {
            try
            {
                owed.Add(JsonSerializer.Deserialize(File.ReadAllText(file), StepContext.Default.OwedRun) ?? throw new JsonException());
            }
            catch (Exception e) when (e is JsonException or IOException or UnauthorizedAccessException)
            {
                unreadable.Add($"{file} says what is to be run after a run that was interrupted, and cannot be read: {e.Message}");
            }
        }
        return ([.. owed.OrderBy(o => o.Since)], unreadable);
    }

    private string FileOf(long run) => Path.Combine(folder, $"{run.ToString(CultureInfo.InvariantCulture)}.json");
}
