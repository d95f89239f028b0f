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
    /// <summary>Notes it durably; from here on it is owed.</summary>
    public void Note(OwedRun owed)
    {
        Directory.CreateDirectory(folder, OwnFiles.Folder);
        DurableFile.Write(FileOf(owed.Run), JsonSerializer.Serialize(owed, StepContext.Default.OwedRun));
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
