using System.Text.RegularExpressions;

namespace IronKeep.EndToEnd.Tests;

/// <summary>
/// What the service asks of the system, in its order, as strace tells it: no file of a store gets its name before its bytes were made
/// durable, and no copy is recorded before the names of all that it needs were.
/// </summary>
public sealed partial class DurableOrderTests : IDisposable
{
    private readonly Programs programs = new();

    public void Dispose() => programs.Dispose();

    [Fact]
    public async Task Bytes_are_durable_before_their_name_and_names_before_the_copy_that_needs_them()
    {
        var trace = Path.Combine(programs.Root, "trace");
        programs.Under =
        [
            "strace",
            "-D",
            "-f",
            "-y",
            "--seccomp-bpf",
            "-s",
            "300",
            "-e",
            "trace=fsync,fdatasync,renameat,renameat2",
            "-o",
            trace,
        ];
        await programs.BeginAsync();
        foreach (var round in Enumerable.Range(0, 3))
        {
            await File.WriteAllBytesAsync(Path.Combine(programs.Source, $"part-{round}"), Random(40_000_000 >> round));
            var said = await programs.ClientAsync("job", "run", "by-hand");
            Assert.True(said.ExitCode == 0, said.ToString());
        }
        await programs.StopAsync();

        var store = programs.StoreFolder + "/";
        var synced = new HashSet<string>();
        var unsyncedFolders = new HashSet<string>();
        var (packs, copies) = (0, 0);
        foreach (var call in Calls(await File.ReadAllLinesAsync(trace)))
        {
            if (Synced().Match(call) is { Success: true } sync)
            {
                synced.Add(sync.Groups[1].Value);
                unsyncedFolders.Remove(sync.Groups[1].Value);
            }
            else if (Renamed().Match(call) is { Success: true } rename)
            {
                var (from, to) = (
                    $"{rename.Groups[1].Value}/{rename.Groups[2].Value}",
                    $"{rename.Groups[3].Value}/{rename.Groups[4].Value}"
                );
                if (!to.StartsWith(store, StringComparison.Ordinal))
                    continue;
                // What moves inside the store, to the bin, was durable when it got its first name.
                if (from.EndsWith(".part", StringComparison.Ordinal))
                    Assert.True(
                        synced.Contains(from),
                        $"{to} got its name before its bytes were durable: "
                            + string.Join(
                                '\n',
                                File.ReadLines(trace).Where(l => l.Contains(rename.Groups[2].Value, StringComparison.Ordinal))
                            )
                    );
                if (to.EndsWith(".copy", StringComparison.Ordinal) || to.Contains("/copies/", StringComparison.Ordinal))
                {
                    copies++;
                    Assert.True(unsyncedFolders.Count == 0, $"{to} was recorded before {string.Join(", ", unsyncedFolders)} was durable");
                }
                packs += to.Contains("/packs/", StringComparison.Ordinal) ? 1 : 0;
                unsyncedFolders.Add(rename.Groups[3].Value);
            }
        }
        Assert.True(packs >= 3 && copies >= 3, $"{packs} packs and {copies} copies were seen in {trace}");
        Assert.True(unsyncedFolders.Count == 0, $"at the end {string.Join(", ", unsyncedFolders)} was not durable");
    }

    /// <summary>The calls in the order in which they ended: one that was interrupted by another's line stands in two lines.</summary>
    private static IEnumerable<string> Calls(IEnumerable<string> lines)
    {
        var begun = new Dictionary<string, string>();
        foreach (var line in lines)
        {
            var pid = line[..line.IndexOf(' ', StringComparison.Ordinal)];
            if (line.EndsWith("<unfinished ...>", StringComparison.Ordinal))
                begun[pid] = line[..^"<unfinished ...>".Length];
            else if (line.Contains("resumed>", StringComparison.Ordinal))
                yield return begun.GetValueOrDefault(pid, "") + line[(line.IndexOf("resumed>", StringComparison.Ordinal) + 8)..];
            else
                yield return line;
        }
    }

    private static byte[] Random(int length)
    {
        var bytes = new byte[length];
        System.Random.Shared.NextBytes(bytes);
        return bytes;
    }

    [GeneratedRegex("f(?:data)?sync\\([0-9]+<([^>]+)>\\s*\\)\\s+= 0")]
    private static partial Regex Synced();

    [GeneratedRegex("renameat2?\\([0-9]+<([^>]+)>, \"([^\"]+)\", [0-9]+<([^>]+)>, \"([^\"]+)\".*= 0")]
    private static partial Regex Renamed();
}
