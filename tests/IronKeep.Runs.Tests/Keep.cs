using System.Collections.Immutable;
using IronKeep.Runs.Backups;
using IronKeep.Stores.Keys;
using IronKeep.Stores.Places;
using IronKeep.Stores.Pooled;
using IronKeep.Stores.Restores;

namespace IronKeep.Runs.Tests;

/// <summary>A source folder, a store and a place to restore to, gone after the test.</summary>
internal sealed class Keep : IDisposable
{
    private int copies;
    private PooledStore? store;

    /// <summary>The secret of the store; every store of the tests is encrypted unless they say otherwise.</summary>
    public static Secret Secret { get; } = Secret.Passphrase("heron at low tide");

    public Keep(StoreMaking? making = null, string? under = null)
    {
        Root = under is null
            ? Directory.CreateTempSubdirectory("keep-").FullName
            : Directory.CreateDirectory(Path.Combine(under, $"keep-{Guid.NewGuid():n}")).FullName;
        foreach (var folder in new[] { Source, StoreFolder })
            Directory.CreateDirectory(folder);
        Encrypted = making is null || making.Secret is not null;
        Place = new FolderPlace(StoreFolder);
        PooledStore.Create(Place, making ?? new StoreMaking(HashKind.Blake3, Secret, Hardness: Hardness.Light), DateTimeOffset.UnixEpoch);
    }

    /// <summary>Whether the store that is opened next needs the secret.</summary>
    public bool Encrypted { get; set; }

    public string Root { get; }
    public string Source => Path.Combine(Root, "source");
    public string StoreFolder => Path.Combine(Root, "store");
    public IPlace Place { get; set; }
    public PooledStore Store => store ??= PooledStore.Open(Place, Encrypted ? Secret : null);
    public List<string> Log { get; } = [];
    public RunFigures Figures { get; private set; } = new();
    public ImmutableArray<string> LeavesOut { get; set; } = [];
    public Func<BackupOrder, BackupOrder> Order { get; set; } = o => o;

    public void Write(string path, string content) => Write(path, System.Text.Encoding.UTF8.GetBytes(content));

    public void Write(string path, byte[] content)
    {
        var full = Path.Combine(Source, path);
        Directory.CreateDirectory(Path.GetDirectoryName(full)!);
        File.WriteAllBytes(full, content);
    }

    public void Reopen()
    {
        store?.Dispose();
        store = null;
    }

    public async Task<CopyRecord> BackUp(CopyRecord? previous = null, CancellationToken cancel = default)
    {
        var order = Order(new BackupOrder($"copy-{++copies}", "job", "heron", [Source], LeavesOut, previous));
        var run = new BackupRun(Store, order, TimeProvider.System, (severity, text) =>
        {
            lock (Log)
                Log.Add($"{severity}: {text}");
        });
        Figures = run.Figures;
        return await run.RunAsync(cancel);
    }

    /// <summary>Restores to a new folder and gives the place where the source lies in it.</summary>
    public (string Folder, RestoreReport Report) Restore(CopyRecord copy, params string[] paths)
    {
        var target = Directory.CreateTempSubdirectory("back-").FullName;
        restored.Add(target);
        using var restorer = new TreeRestorer(Store);
        var report = restorer.Restore(copy, paths, target);
        return (target + Source, report);
    }

    private readonly List<string> restored = [];

    public void Dispose()
    {
        store?.Dispose();
        // The standard library cannot delete names that are not UTF-8.
        foreach (var folder in restored.Append(Root))
            Listing.Shell($"rm -rf '{folder}'", "/");
    }
}
