using System.Text.Json;

namespace IronKeep.EndToEnd.Tests;

/// <summary>
/// A moment held still by a snapshot of a file system that steps make and remove: btrfs on a loop device where the machine lets one be
/// mounted, else copies that stand in for it. By the service itself and by an agent.
/// </summary>
public sealed class HeldStillTests : IDisposable
{
    private readonly Programs programs = new();
    private System.Diagnostics.Process? agent;
    private bool mounted;

    public void Dispose()
    {
        if (agent is { HasExited: false })
            agent.Kill();
        agent?.WaitForExit();
        if (mounted)
            Shell($"umount --lazy {At("disk")}");
        programs.Dispose();
    }

    private string At(string name) => Path.Combine(programs.Root, name);

    private static int Shell(string script)
    {
        using var shell = System.Diagnostics.Process.Start("bash", ["-c", script]);
        shell.WaitForExit();
        return shell.ExitCode;
    }

    private async Task BeginAsync(bool onCurlew)
    {
        Directory.CreateDirectory(At("disk"));
        mounted =
            Shell(
                $"truncate -s 200M {At("disk.img")} && mkfs.btrfs -q {At("disk.img")} > {At("mkfs.log")} 2>&1 "
                    + $"&& mount -o loop {At("disk.img")} {At("disk")}"
            ) == 0;
        var (make, take, drop) = mounted
            ? ("btrfs subvolume create", "btrfs subvolume snapshot -r", "btrfs subvolume delete")
            : ("mkdir", "cp -a", "rm -rf");
        Assert.Equal(0, Shell($"{make} {At("disk/data")} > {At("make.log")}"));
        await File.WriteAllTextAsync(
            At("hold.sh"),
            $"{take} {At("disk/data")} {At("disk/still")} && echo later > {At("disk/data/register")}\n"
        );
        await File.WriteAllTextAsync(At("drop.sh"), $"{drop} {At("disk/still")}\n");
        await File.WriteAllTextAsync(
            At("agent.yaml"),
            $"allows:\n  hold: {{ command: [sh, {At("hold.sh")}] }}\n  drop: {{ command: [sh, {At("drop.sh")}] }}\n"
        );
        File.SetUnixFileMode(At("agent.yaml"), (UnixFileMode)0b110_100_100);
        await programs.BeginAsync();
        await File.WriteAllTextAsync(
            At("charter.yaml"),
            $$"""
            charter: 1
            machines: { curlew: {} }
            stores: { cellar: { folder: {{programs.StoreFolder}} } }
            policies: { few: { keep: newest 5 } }
            steps:
              hold: { command: [sh, {{At("hold.sh")}}] }
              drop: { command: [sh, {{At("drop.sh")}}] }
            jobs:
              register: { takes: {{At("disk/data")}}, into: cellar, policy: few, before: hold, still-at: {{At("disk/data")}} at {{At(
                "disk/still"
            )}},
                always-after: drop{{(onCurlew ? ", on: curlew" : "")}} }
            """
        );
        var applied = await programs.ClientAsync("charter", "apply", At("charter.yaml"), "--confirm");
        Assert.True(applied.ExitCode == 0, applied.ToString());
        if (onCurlew)
            agent = await programs.JoinAsync("curlew", At("agent"));
    }

    private async Task<JsonElement> RunAsync() =>
        JsonSerializer.Deserialize<JsonElement>((await programs.ClientAsync("job", "run", "register", "--output", "json")).Out);

    [Theory]
    [InlineData(false)]
    [InlineData(true)]
    public async Task A_copy_is_of_the_moment_that_was_held(bool onCurlew)
    {
        await BeginAsync(onCurlew);
        await File.WriteAllTextAsync(At("disk/data/register"), "at the moment");
        for (var i = 0; i < 50; i++)
            await File.WriteAllTextAsync(At($"disk/data/page-{i}"), $"page {i}");
        var run = await RunAsync();
        Assert.True(run.GetProperty("outcome").GetString() == "ok", $"{run}");
        Assert.Equal("later\n", await File.ReadAllTextAsync(At("disk/data/register")));
        Assert.False(Directory.Exists(At("disk/still")));
        Assert.Equal(0, (await programs.ClientAsync("copy", "restore", "newest:register", "--to", At("back"))).ExitCode);
        Assert.Equal("at the moment", await File.ReadAllTextAsync(At("back") + At("disk/data/register")));
        Assert.Equal(51, Directory.GetFiles(At("back") + At("disk/data")).Length);
        // Of the next moment only what changed is read, as of the folder itself.
        var next = await RunAsync();
        Assert.True(next.GetProperty("outcome").GetString() == "ok", $"{next}");
        if (mounted)
            Assert.Equal("later\n".Length, next.GetProperty("figures").GetProperty("readBytes").GetInt64());
        // Where the snapshot is not made there is no copy, and the folder is not taken in its place.
        await File.WriteAllTextAsync(At("hold.sh"), "true\n");
        await File.WriteAllTextAsync(At("drop.sh"), "true\n");
        var without = await RunAsync();
        Assert.Equal(("failed", "hook-failed"), (without.GetProperty("outcome").GetString(), without.GetProperty("failure").GetString()));
        Assert.Contains("made the snapshot", without.GetProperty("sentence").GetString());
        Assert.Equal(0, without.GetProperty("copyIds").GetArrayLength());
    }
}
