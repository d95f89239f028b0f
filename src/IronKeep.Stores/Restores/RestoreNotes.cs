using System.Collections.Concurrent;
using IronKeep.Stores.Posix;
using IronKeep.Stores.Trees;

namespace IronKeep.Stores.Restores;

/// <summary>What a restore counts and has to say; safe for several threads. What would be said of every file is said once.</summary>
internal sealed class RestoreNotes(Action<long, long>? progress)
{
    private const int MostProblems = 10_000;
    private readonly ConcurrentQueue<RestoreProblem> problems = new();
    private readonly ConcurrentDictionary<string, byte> saidOnce = new();
    private long files,
        folders,
        links,
        bytes,
        overwritten,
        beside;

    /// <summary>Files and links made so far.</summary>
    public long Made => Interlocked.Read(ref files) + Interlocked.Read(ref links);

    public void Folder() => Interlocked.Increment(ref folders);

    public void Link() => Interlocked.Increment(ref links);

    public void Overwritten() => Interlocked.Increment(ref overwritten);

    public void Beside() => Interlocked.Increment(ref beside);

    public void File(long size)
    {
        var (count, sum) = (Interlocked.Increment(ref files), Interlocked.Add(ref bytes, size));
        progress?.Invoke(count, sum);
    }

    public void Report(string path, string problem)
    {
        if (problems.Count < MostProblems)
            problems.Enqueue(new RestoreProblem(path, problem));
    }

    /// <summary>Gives something its owner, or says that it cannot be done.</summary>
    public void Owner(Action set, Func<string> path)
    {
        try
        {
            set();
        }
        catch (PosixException e) when (e.AccessDenied)
        {
            Once("owner", path, "owners are not restored, here and elsewhere: only root may give files to others");
        }
    }

    /// <summary>Gives something an extended attribute, or says that it cannot be done.</summary>
    public void Attribute(Action set, NamedAttribute attribute, Func<string> path)
    {
        try
        {
            set();
        }
        catch (PosixException e) when (e.AccessDenied || e.NotSupported)
        {
            var name = NameText.Show(attribute.Name);
            Once("attribute " + name, path, $"the extended attribute {name} is not restored, here and elsewhere: {e.Message}");
        }
    }

    public RestoreReport ToReport() => new(files, folders, links, bytes, overwritten, beside, [.. problems]);

    private void Once(string what, Func<string> path, string problem)
    {
        if (saidOnce.TryAdd(what, 0))
            Report(path(), problem);
    }
}
