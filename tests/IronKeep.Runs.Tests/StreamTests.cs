using System.Collections.Immutable;
using System.Security.Cryptography;
using IronKeep.Core.Charters;
using IronKeep.Core.Machines;
using IronKeep.Core.Watching;
using IronKeep.Runs.Backups;
using IronKeep.Runs.Sending;
using IronKeep.Runs.Steps;
using IronKeep.Stores.Pooled;

namespace IronKeep.Runs.Tests;

/// <summary>What commands give, as files of a copy: whole or not at all, beside folders and over a link.</summary>
public sealed class StreamTests : IDisposable
{
    private readonly Keep keep = new();
    private readonly string memory = Directory.CreateTempSubdirectory("memory-").FullName;
    private readonly List<string> said = [];
    private int runs;

    public void Dispose()
    {
        keep.Dispose();
        Directory.Delete(memory, true);
    }

    private static readonly StepRunner Runner = new(
        () => new AllowedCommands([new StepDefinition("any", ["bash", "-c", "*"])]),
        "agent.yaml"
    );

    private static StreamSource Stream(string name, string keepsAs, string script, double limit = 60) =>
        new(new RunStep(name, ["bash", "-c", script], null, TimeSpan.FromSeconds(limit)), keepsAs);

    private Task<CopyRecord> RunAsync(
        ImmutableArray<string> takes,
        CopyRecord? previous,
        CancellationToken cancel,
        params StreamSource[] streams
    )
    {
        var order = new BackupOrder($"copy-{++runs}", "job", "heron", takes, [], previous) { Streams = [.. streams] };
        return new BackupRun(keep.Store, order, TimeProvider.System, Log) { Steps = Runner }.RunAsync(cancel);
    }

    private void Log(LogSeverity severity, string text)
    {
        lock (said)
            said.Add(text);
    }

    private string Restored(CopyRecord copy) => keep.Restore(copy).Folder[..^keep.Source.Length];

    [Fact]
    public async Task What_commands_give_lies_beside_the_folders_and_is_deduplicated_like_them()
    {
        keep.Write("a/file", "birds");
        const string Numbers = "seq 2000000";
        var copy = await RunAsync(
            [keep.Source],
            null,
            default,
            Stream("dump", "register.sql", Numbers),
            Stream("another", "b", "printf x")
        );
        Assert.Equal([keep.Source, "/.streams/dump/register.sql", "/.streams/another/b"], copy.Takes.ToArray());
        var root = Restored(copy);
        Assert.Equal("", Listing.Diff(keep.Source, root + keep.Source));
        var file = new FileInfo(root + "/.streams/dump/register.sql");
        Assert.Equal((14_888_896, (UnixFileMode)0b110_000_000), (file.Length, file.UnixFileMode));
        Assert.Equal("2000000", File.ReadLines(file.FullName).Last());
        Assert.Equal("x", File.ReadAllText(root + "/.streams/another/b"));
        Assert.True(copy.Bytes == 14_888_896 + 1 + 5 && copy.Items == 3, $"{copy}");
        // The next takes only what changed in them, and one without folders has nothing else.
        var next = await RunAsync([keep.Source], copy, default, Stream("dump", "register.sql", Numbers + "; echo more"));
        Assert.InRange(next.NewBytes!.Value, 1, 2_500_000);
        Assert.False(Directory.Exists(Restored(next) + "/.streams/another"));
        var alone = await RunAsync([], next, default, Stream("dump", "register.sql", "echo alone"));
        var only = Restored(alone);
        Assert.Equal("alone\n", File.ReadAllText(only + "/.streams/dump/register.sql"));
        Assert.Equal([only + "/.streams"], Directory.GetFileSystemEntries(only));
        Assert.True(StoreCheck.Run(keep.Store, CheckScope.Everything with { Depth = CheckDepth.Deep }).Sound);
    }

    [Theory]
    [InlineData("seq 100000; echo 'no space' >&2; exit 3", "ended with 3: no space")]
    [InlineData("true", "gave nothing")]
    [InlineData("seq 100000; kill -9 $$", "ended with 137")]
    [InlineData("seq 10; sleep 300", "did not end within 1 s")]
    public async Task Half_a_dump_is_none(string script, string says)
    {
        keep.Write("a/file", "birds");
        var failed = await Assert.ThrowsAsync<RunFailedException>(() =>
            RunAsync(
                [keep.Source],
                null,
                default,
                Stream("dump", "x", script, limit: says.Contains("within", StringComparison.Ordinal) ? 1 : 60)
            )
        );
        Assert.Contains(says, failed.Message);
        Assert.Empty(keep.Store.ReadContents().Copies);
    }

    [Fact]
    public async Task Cancelling_ends_the_command_and_nothing_is_allowed_that_the_machine_does_not_list()
    {
        using var cancel = new CancellationTokenSource();
        var running = RunAsync([], null, cancel.Token, Stream("dump", "x", "sleep 300", limit: 600));
        while (!said.Any(s => s.Contains("gives", StringComparison.Ordinal)))
            await Task.Delay(20);
        await cancel.CancelAsync();
        await Assert.ThrowsAnyAsync<OperationCanceledException>(() => running.WaitAsync(TimeSpan.FromSeconds(30)));
        var other = new StreamSource(new RunStep("dump", ["cat", "/etc/shadow"], null, TimeSpan.FromSeconds(5)), "x");
        Assert.Contains("not allowed", (await Assert.ThrowsAsync<RunFailedException>(() => RunAsync([], null, default, other))).Message);
    }

    [Fact]
    public async Task Over_a_link_it_is_the_same()
    {
        keep.Write("a/file", "birds");
        using var link = new NearLink(keep.Store, "heron");
        using var kept = new SendingMemory(memory + "/job", 10_000);
        var order = new BackupOrder("sent", "job", "heron", [keep.Source], [], null) { Streams = [Stream("dump", "x", "seq 900000")] };
        var run = new BackupRun(new SendingTarget(link, kept, null), order, TimeProvider.System, Log) { Steps = Runner };
        var sent = await run.RunAsync(default);
        var root = Restored(keep.Store.ReadRecord(sent.Id)!);
        Assert.Equal(
            Convert.ToHexString(
                SHA256.HashData(System.Text.Encoding.ASCII.GetBytes(string.Concat(Enumerable.Range(1, 900_000).Select(i => $"{i}\n"))))
            ),
            Convert.ToHexString(SHA256.HashData(File.ReadAllBytes(root + "/.streams/dump/x")))
        );
        Assert.Equal("birds", File.ReadAllText(root + keep.Source + "/a/file"));
    }
}
