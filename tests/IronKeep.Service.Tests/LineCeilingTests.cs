using IronKeep.Catalogue;
using IronKeep.Core.Watching;
using IronKeep.Service.Basics;
using IronKeep.Service.Machines;
using IronKeep.Service.Runs;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.DependencyInjection;
using NodaTime;

namespace IronKeep.Service.Tests;

public sealed class LineCeilingTests
{
    [Fact]
    public async Task A_lines_bandwidth_is_divided_among_the_runs_that_send_over_it()
    {
        await using var bench = await MachineTests.StartAsync();
        await bench.ApplyAsync(
            $$"""
            charter: 1
            machines: { curlew: { site: hides }, plover: { site: hides }, knot: {} }
            lines: { ferry-link: { machines: site = hides, bandwidth: 12 MB/s } }
            stores: { cellar: { folder: {{bench.StoreFolder}} }, own-disk: { folder: /mnt/own, via: agent, on: plover } }
            policies: { few: { keep: newest 2 } }
            jobs:
              home: { on: [curlew, plover, knot], takes: /home, into: cellar, policy: few }
              swap: { on: plover, takes: /srv, into: own-disk, policy: few }
              both: { on: plover, takes: /etc, into: [own-disk, cellar], policy: few }
            """
        );
        await bench.Services.GetRequiredService<Dispatch>().HoldAsync();
        await using var db = await bench.Services.GetRequiredService<IDbContextFactory<KeepContext>>().CreateDbContextAsync();
        Assert.Equal(12_000_000, Share());
        await RunsAsync(RunKind.Backup, "home", "curlew", null);
        Assert.Equal(12_000_000, Share());
        // Over its own disk alone, on another line, or no copy at all: none of it goes over this line.
        await RunsAsync(RunKind.Backup, "swap", "plover", null);
        await RunsAsync(RunKind.Restore, null, "plover", "own-disk");
        await RunsAsync(RunKind.Backup, "home", "knot", null);
        await RunsAsync(RunKind.Prune, "home", "plover", "cellar");
        Assert.Equal(12_000_000, Share());
        await RunsAsync(RunKind.Backup, "both", "plover", null);
        Assert.Equal(6_000_000, Share());
        await RunsAsync(RunKind.Restore, null, "curlew", "cellar");
        Assert.Equal(4_000_000, Share());

        // Asked anew each time: what was counted is remembered for two seconds.
        long? Share() => ActivatorUtilities.CreateInstance<LineCeilings>(bench.Services).Of("curlew");

        async Task RunsAsync(RunKind kind, string? job, string machine, string? store)
        {
            db.Runs.Add(
                new Run
                {
                    Kind = kind,
                    State = RunState.Running,
                    Job = job,
                    Machine = machine,
                    Store = store,
                    By = Actor.Person("mira"),
                    Queued = Instant.FromDateTimeOffset(bench.Clock.Now),
                }
            );
            await db.SaveChangesAsync();
        }
    }
}
