using System.Diagnostics;
using IronKeep.Stores.Exports;
using IronKeep.Stores.Restores;

namespace IronKeep.Runs.Tests;

/// <summary>A user who owns the folder that root restores to, and who puts links in the way of everything he sees appear there.</summary>
public sealed class RestoreAttackTests : IDisposable
{
    private readonly Keep keep = new();

    public void Dispose() => keep.Dispose();

    [Fact]
    public async Task Links_planted_while_root_restores_lead_nowhere()
    {
        if (Environment.UserName != "root")
            return;
        for (var i = 0; i < 400; i++)
            keep.Write($"{i % 7}/file-{i}", $"{i}");
        Listing.Shell(
            "mkfifo pipe; ln -s /etc/passwd link; ln 0/file-0 1/hard; chmod 4755 0/file-0 2/*; chmod 777 3/*; chown -R nobody .",
            keep.Source
        );
        var copy = await keep.BackUp();
        var target = Directory.CreateDirectory(Path.Combine(keep.Root, "theirs")).FullName;
        var victim = Path.Combine(keep.Root, "victim");
        File.WriteAllText(victim, "root's own");
        File.SetUnixFileMode(victim, UnixFileMode.UserRead);
        // Part of the way is there already and theirs, so that entries get their place one by one.
        Listing.Shell(
            $"mkdir -p '{target}{keep.Source}/0' '{target}{keep.Source}/2' '{target}{keep.Source}/3'; chown -R nobody '{target}'; chmod "
                + $"711 '{keep.Root}'",
            "/"
        );
        File.WriteAllText(
            keep.Root + "/attack.py",
            $$"""
            import os
            aside = 0
            while True:
                for folder, names, files in os.walk('{{target}}'):
                    for name in names + files:
                        if name in ('0', '2', '3', 'source') or folder.count('/') < 3: continue
                        path = os.path.join(folder, name)
                        try:
                            if os.path.islink(path): continue
                            aside += 1
                            os.rename(path, '{{target}}/aside-%d' % aside)
                            os.symlink('{{victim}}', path)
                        except OSError: pass
            """
        );
        using var attacker = Process.Start(
            new ProcessStartInfo("setpriv", ["--reuid=65534", "--clear-groups", "/usr/bin/python3", keep.Root + "/attack.py"])
        )!;
        try
        {
            for (var round = 0; round < 6; round++)
            {
                using var restorer = new TreeRestorer(keep.Store, null, round % 2 == 0 ? ExistingRule.Overwrite : ExistingRule.Keep);
                _ = Record.Exception(() => restorer.Restore(copy, [], target));
                Assert.Equal("400 0 root\n", Listing.Shell($"stat -c '%a %u %U' '{victim}'", "/"));
                Assert.Equal("root's own", File.ReadAllText(victim));
            }
        }
        finally
        {
            attacker.Kill();
            await attacker.WaitForExitAsync();
        }
        // Nothing of root's with rights for others lies in their folder: what is there has the owner that the copy says.
        Assert.Equal("", Listing.Shell($"find '{target}' -type f -uid 0 -perm /7077", "/"));
    }

    [Fact]
    public async Task An_export_follows_no_planted_link_and_stays_out_of_forbidden_folders_however_it_is_led_there()
    {
        keep.Write("a", "1");
        var copy = await keep.BackUp();
        var folder = Directory.CreateDirectory(Path.Combine(keep.Root, "exports")).FullName;
        var victim = Path.Combine(keep.Root, "victim");
        File.WriteAllText(victim, "as it was");
        File.CreateSymbolicLink(folder + "/copy.tar.part", victim);
        File.CreateSymbolicLink(folder + "/linked.tar", keep.Root + "/nowhere");
        var forbidden = new ForbiddenFolders([(keep.StoreFolder, "store cellar")]);
        Archive.ToFile(keep.Store, copy, [], folder + "/copy.tar", null, default, forbidden);
        Assert.Equal("as it was", File.ReadAllText(victim));
        Assert.Equal(UnixFileMode.UserRead | UnixFileMode.UserWrite, File.GetUnixFileMode(folder + "/copy.tar"));
        Assert.Contains(
            "exists already",
            Assert
                .ThrowsAny<IOException>(() => Archive.ToFile(keep.Store, copy, [], folder + "/linked.tar", null, default, forbidden))
                .Message
        );
        // By a link and '..' into the store.
        var inside = Directory.CreateDirectory(keep.StoreFolder + "/inside/deeper").FullName;
        Directory.CreateSymbolicLink(folder + "/way", inside);
        foreach (var to in new[] { $"{folder}/way/x.tar", $"{folder}/way/../x.tar" })
        {
            Assert.Contains(
                "store cellar",
                Assert.ThrowsAny<IOException>(() => Archive.ToFile(keep.Store, copy, [], to, null, default, forbidden)).Message
            );
            Assert.Contains(
                "store cellar",
                Assert.ThrowsAny<IOException>(() => Bag.Write(keep.Store, copy, [], to + ".bag", default, forbidden)).Message
            );
            using var restorer = new TreeRestorer(keep.Store, forbidden: forbidden);
            Assert.Contains("store cellar", Assert.ThrowsAny<IOException>(() => restorer.Restore(copy, [], to)).Message);
        }
        // A folder on the way that the copy shares with the store.
        using var through = new TreeRestorer(keep.Store, forbidden: new ForbiddenFolders([(folder + keep.Source, "store cellar")]));
        Directory.CreateDirectory(folder + keep.Source);
        Assert.Contains("store cellar", Assert.Single(through.Restore(copy, [], folder).Problems).Problem);
        Assert.Empty(Directory.EnumerateFileSystemEntries(folder + keep.Source));
        Bag.Write(keep.Store, copy, [], folder + "/bag", default, forbidden);
        Assert.Equal("", Listing.Shell("sha256sum --quiet -c manifest-sha256.txt", folder + "/bag"));
        Assert.Equal("700\n", Listing.Shell($"stat -c %a '{folder}/bag'", "/"));
    }
}
