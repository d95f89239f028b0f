using System.Buffers.Binary;
using System.Net;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Watching;
using IronKeep.Service.Charters;
using IronKeep.Service.Stores;
using IronKeep.Stores.Places;
using Microsoft.Extensions.DependencyInjection;

namespace IronKeep.Service.Tests;

/// <summary>Calls to a store on a machine's own disk: each is done once, by that machine alone, or comes to a named end.</summary>
public sealed class AgentPlaceTests
{
    private static async Task<(Bench Bench, IPlace Place, string Folder)> StartAsync()
    {
        var bench = await MachineTests.StartAsync();
        var folder = Directory.CreateDirectory(bench.Root + "/disk").FullName;
        await bench.ApplyAsync(
            bench
                .Charter()
                .Replace(
                    "stores:",
                    $"machines: {{ curlew: {{}}, plover: {{}} }}\nstores:\n  disk: {{ folder: {folder}, via: agent, on: curlew }}",
                    StringComparison.Ordinal
                )
        );
        var store = bench.Services.GetRequiredService<CharterInForce>().Charter.Stores["disk"];
        return (bench, bench.Services.GetServices<IPlaceKind>().Single(k => k.Holds(store)).Open(store), folder);
    }

    private static async Task<PlaceOrder> OrderAsync(TestAgent agent, string? instance = "one") =>
        Assert.Single((await agent.SayAsync<OrdersAnswer>("orders", agent.Self() with { Instance = instance })).Places!);

    private static async Task<(long Number, byte[] Call)> NextAsync(
        TestAgent agent,
        PlaceOrder order,
        byte worker,
        long number = 0,
        byte[]? answer = null
    )
    {
        var (status, bytes) = await agent.BytesAsync($"places/{order.Token}/work", TestAgent.Work(worker, number, answer ?? []));
        Assert.Equal(HttpStatusCode.OK, status);
        return (BinaryPrimitives.ReadInt64LittleEndian(bytes), bytes[8..]);
    }

    [Fact]
    public async Task What_was_lost_on_the_way_is_given_again_and_done_once()
    {
        var (bench, place, folder) = await StartAsync();
        await using var _ = bench;
        using var curlew = await TestAgent.JoinedAsync(bench, "curlew");
        using var plover = await TestAgent.JoinedAsync(bench, "plover");
        using var served = new ServedPlace(new FolderPlace(folder));
        var first = Task.Run(() => place.Exists("a"));
        var order = await OrderAsync(curlew);
        Assert.Equal(("disk", folder), (order.Store, order.Folder));
        await curlew.SayAsync<CopyReportAnswer>($"places/{order.Token}/begin", new OrderBeginRequest("one"));
        Assert.Equal(HttpStatusCode.Gone, (await plover.BytesAsync($"places/{order.Token}/work", TestAgent.Work(0, 0, []))).Status);
        var call = await NextAsync(curlew, order, 0);
        // The worker asks again, so it never heard of it; another is not given what somebody has in hand.
        Assert.Equal(call.Number, (await NextAsync(curlew, order, 0)).Number);
        var second = Task.Run(() => place.Exists("b"));
        var other = await NextAsync(curlew, order, 1);
        Assert.NotEqual(call.Number, other.Number);
        File.WriteAllText(folder + "/a", "");
        // An answer to a call that is not this worker's is nobody's, and its own is given again.
        Assert.Equal(call.Number, (await NextAsync(curlew, order, 0, other.Number, served.Answer(other.Call))).Number);
        Assert.False(first.IsCompleted || second.IsCompleted);
        var third = Task.Run(() => place.FreeBytes());
        var next = await NextAsync(curlew, order, 0, call.Number, served.Answer(call.Call));
        Assert.True(await first);
        // Said again, because its answer was lost: it changes nothing, and the next is given again.
        Assert.Equal(next.Number, (await NextAsync(curlew, order, 0, call.Number, [1])).Number);
        var fourth = Task.Run(() => place.Exists("c"));
        await NextAsync(curlew, order, 0, next.Number, served.Answer(next.Call));
        Assert.True(await third > 0);
        foreach (
            var (body, status) in new[]
            {
                (TestAgent.Work(0, 0, new byte[PlaceWire.Most + 1]), HttpStatusCode.RequestEntityTooLarge),
                ([1, 2], HttpStatusCode.BadRequest),
            }
        )
            Assert.Equal(status, (await curlew.BytesAsync($"places/{order.Token}/work", body)).Status);
        // The agent is started anew: what it had in hand is not waited for.
        await curlew.SayAsync<OrdersAnswer>("orders", curlew.Self() with { Instance = "two" });
        foreach (var lost in new[] { second, fourth })
            Assert.Contains("started anew", (await Assert.ThrowsAsync<PlaceException>(() => lost)).Message);
        Assert.Equal(HttpStatusCode.Gone, (await curlew.BytesAsync($"places/{order.Token}/work", TestAgent.Work(0, 0, []))).Status);
        var again = Task.Run(() => place.Exists("a"));
        var anew = await OrderAsync(curlew, "two");
        Assert.NotEqual(order.Token, anew.Token);
        await curlew.SayAsync<CopyReportAnswer>($"places/{anew.Token}/begin", new OrderBeginRequest("two"));
        var last = await NextAsync(curlew, anew, 3);
        var ends = curlew.BytesAsync($"places/{anew.Token}/work", TestAgent.Work(3, last.Number, served.Answer(last.Call)));
        Assert.True(await again);
        // Nobody asks anything for a while: it may go.
        bench.Clock.Now = bench.Clock.Now.AddMinutes(2);
        await curlew.HelloAsync();
        bench.Clock.Now = bench.Clock.Now.AddMinutes(2);
        await curlew.HelloAsync();
        bench.Clock.Now = bench.Clock.Now.AddMinutes(2);
        Assert.Equal(HttpStatusCode.NoContent, (await ends).Status);
        await curlew.BytesAsync($"places/{anew.Token}/work", TestAgent.Work(3, 0, []));
        Assert.Equal(HttpStatusCode.Gone, (await curlew.BytesAsync($"places/{anew.Token}/work", TestAgent.Work(3, 0, []))).Status);
    }

    [Fact]
    public async Task A_machine_that_is_away_or_does_not_allow_it_is_named()
    {
        var (bench, place, folder) = await StartAsync();
        await using var _ = bench;
        var away = Assert.Throws<PlaceException>(() => place.List(""));
        Assert.Equal(PlaceFault.Unreachable, away.Fault);
        Assert.Contains("curlew is not heard of", away.Message);
        using var curlew = await TestAgent.JoinedAsync(bench, "curlew");
        var asked = Task.Run(() => place.List(""));
        var order = await OrderAsync(curlew);
        var none = new CopyReportRequest(new CopyFigures(0, 0, 0, 0, 0, 0, 0, 0, 0, 0), 0, []);
        await curlew.SayAsync<CopyReportAnswer>(
            $"places/{order.Token}/fail",
            new CopyFailRequest(none, FailureClass.AccessRefused, $"list {folder}\nthere")
        );
        var refused = await Assert.ThrowsAsync<PlaceException>(() => asked);
        Assert.Equal(PlaceFault.AccessRefused, refused.Fault);
        Assert.Contains($"list {folder}there", refused.Message);
        // It comes for it, and then says nothing more.
        asked = Task.Run(() => place.List(""));
        order = await OrderAsync(curlew);
        await curlew.SayAsync<CopyReportAnswer>($"places/{order.Token}/begin", new OrderBeginRequest("one"));
        bench.Clock.Now = bench.Clock.Now.AddMinutes(2).AddSeconds(1);
        Assert.Contains("does not answer", (await Assert.ThrowsAsync<PlaceException>(() => asked)).Message);
        Assert.Equal(HttpStatusCode.Gone, (await curlew.BytesAsync($"places/{order.Token}/work", TestAgent.Work(0, 0, []))).Status);
    }

    /// <summary>What a machine says that it made is looked for in its store, by the name that was ordered.</summary>
    [Fact]
    public async Task A_copy_that_is_not_there_as_it_was_ordered_counts_for_nothing()
    {
        var (bench, _, folder) = await StartAsync();
        await using var _1 = bench;
        using var curlew = await TestAgent.JoinedAsync(bench, "curlew");
        using var served = new ServedPlace(new FolderPlace(folder));
        using var stop = new CancellationTokenSource();
        var answering = curlew.AnswerAsync(served, stop.Token, copies);
        await bench.ApplyAsync(
            bench
                .Charter(more: "on: curlew")
                .Replace(
                    "stores:",
                    $"machines: {{ curlew: {{}} }}\nstores:\n  disk: {{ folder: {folder}, via: agent, on: curlew }}",
                    StringComparison.Ordinal
                )
                .Replace("into: cellar", "into: disk", StringComparison.Ordinal)
        );
        var run = await bench.SendAsync<RunAnswer>(HttpMethod.Post, "jobs/register/runs");
        while (copies.IsEmpty)
            await Task.Delay(20);
        var order = copies.First();
        Assert.Equal((folder, "curlew", null), (order.Local!.Folder, order.Local.Machine, order.Local.Previous));
        await curlew.SayAsync<CopyBeginAnswer>($"copies/{order.Token}/begin", new CopyBeginRequest([], "one"));
        var report = new CopyReportRequest(new CopyFigures(1, 1, 1, 0, 1, 0, 0, 0, 1, 0), 0, []);
        foreach (var id in (string[])[order.CopyId, "20261123-090000-abcdef", "../../etc/passwd"])
            Assert.Contains(
                "not there as it was ordered",
                await curlew.RefusedAsync($"copies/{order.Token}/made", new CopyMadeRequest(report, id), HttpStatusCode.BadRequest)
            );
        // Nothing of it can be sent either: it is no copy that arrives.
        Assert.Equal(HttpStatusCode.Gone, (await curlew.BytesAsync($"copies/{order.Token}/batches", "IKB1"u8.ToArray())).Status);
        await bench.SendAsync<RunAnswer>(HttpMethod.Post, $"runs/{run.Id}/cancel");
        await bench.IdleAsync();
        Assert.Empty(await bench.CopiesAsync());
        await stop.CancelAsync();
        await answering;
    }

    private readonly System.Collections.Concurrent.ConcurrentBag<CopyOrder> copies = [];
}
