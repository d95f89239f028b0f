using System.Net;
using IronKeep.Contracts;
using IronKeep.Core.Watching;
using IronKeep.Service.Machines;
using Microsoft.Extensions.DependencyInjection;

namespace IronKeep.Service.Tests;

/// <summary>What an agent may do with an order, and what becomes of one that lies about it or does not come.</summary>
public sealed class AgentOrderTests
{
    private static string OnCurlew(Bench bench) =>
        bench.Charter(more: "on: curlew").Replace("stores:", "machines: { curlew: {} }\nstores:", StringComparison.Ordinal);

    [Fact]
    public async Task A_machine_whose_agent_does_not_come_is_named()
    {
        await using var bench = await MachineTests.StartAsync();
        await bench.ApplyAsync(OnCurlew(bench));
        var run = await bench.SendAsync<RunAnswer>(HttpMethod.Post, "jobs/register/runs");
        Assert.Equal("curlew", run.Machine);
        var orders = bench.Services.GetRequiredService<AgentOrders>();
        while ((await orders.TakeAsync("curlew", null, isNews: true, default)).Count == 0)
            await Task.Delay(20);
        bench.Clock.Now = bench.Clock.Now.AddMinutes(3);
        await bench.IdleAsync();
        var ended = await bench.GetAsync<RunAnswer>($"runs/{run.Id}");
        Assert.Equal((Outcome.Failed, FailureClass.MachineAway), (ended.Outcome, ended.Failure));
        Assert.Contains("the agent of curlew did not come", ended.Sentence!, StringComparison.OrdinalIgnoreCase);
        Assert.Empty(await bench.CopiesAsync());
    }

    /// <summary>
    /// An order is one machine's, and ends with its run. Whatever else is said with it or without, nothing is stored and nobody is touched.
    /// </summary>
    [Fact]
    public async Task An_agent_that_lies_about_an_order_gets_an_error_each_and_makes_no_copy()
    {
        await using var bench = await MachineTests.StartAsync();
        await bench.ApplyAsync(OnCurlew(bench));
        using var curlew = await TestAgent.JoinedAsync(bench, "curlew");
        using var plover = await TestAgent.JoinedAsync(bench, "plover");
        var run = await bench.SendAsync<RunAnswer>(HttpMethod.Post, "jobs/register/runs");
        var order = Assert.Single((await curlew.SayAsync<OrdersAnswer>("orders", curlew.Self())).Orders);
        Assert.Equal(("register", "cellar", run.Id), (order.Job, order.Store, order.Run));
        var begin = new CopyBeginRequest([]);
        await plover.RefusedAsync($"copies/{order.Token}/begin", begin, HttpStatusCode.Gone);
        await curlew.RefusedAsync($"copies/{new string('0', 64)}/begin", begin, HttpStatusCode.Gone);
        Assert.Equal(HttpStatusCode.BadRequest, (await curlew.RawAsync($"copies/{order.Token}/batches", "IKB1")).Status);
        await curlew.SayAsync<CopyBeginAnswer>($"copies/{order.Token}/begin", begin);
        // Its agent has it in hand.
        foreach (var (path, body, expected) in Lies(order.Token))
        {
            var (status, text) = await curlew.RawAsync(path, body);
            Assert.True(expected == status, $"{path} {body[..Math.Min(body.Length, 80)]}: {status} {text}");
            Assert.DoesNotContain("   at ", text);
            // Of another machine nothing comes that far.
            Assert.True(
                (await plover.RawAsync(path, body)).Status is HttpStatusCode.Gone or HttpStatusCode.BadRequest or HttpStatusCode.NotFound
            );
        }
        Assert.Equal(RunState.Running, (await bench.GetAsync<RunAnswer>($"runs/{run.Id}")).State);
        // A person cancels: the agent is told, and its token ends with the run.
        await bench.SendAsync<RunAnswer>(HttpMethod.Post, $"runs/{run.Id}/cancel");
        await bench.IdleAsync();
        var report = new CopyReportRequest(new CopyFigures(1, 1, 1, 0, 1, 0, 0, 0, 1, 0), 0, []);
        await curlew.RefusedAsync($"copies/{order.Token}/report", report, HttpStatusCode.Gone);
        await curlew.RefusedAsync($"copies/{order.Token}/begin", begin, HttpStatusCode.Gone);
        var root = new string('0', 64);
        Assert.NotEqual(
            HttpStatusCode.OK,
            (
                await curlew.RawAsync(
                    $"copies/{order.Token}/commit",
                    System.Text.Json.JsonSerializer.Serialize(
                        new CopyCommitRequest(report, ["/x"], 1, 1, 0, 0, [root], null),
                        ContractJson.Options
                    )
                )
            ).Status
        );
        Assert.Empty(await bench.CopiesAsync());
        Assert.Equal(Outcome.Cancelled, (await bench.GetAsync<RunAnswer>($"runs/{run.Id}")).Outcome);
        // The next order has another token.
        await bench.SendAsync<RunAnswer>(HttpMethod.Post, "jobs/register/runs");
        Assert.NotEqual(order.Token, Assert.Single((await curlew.SayAsync<OrdersAnswer>("orders", curlew.Self())).Orders).Token);
    }

    /// <summary>An agent that is older than the service does not know of streams: its copy lacks them, and is none.</summary>
    [Fact]
    public async Task A_copy_that_lacks_what_a_step_gives_is_refused()
    {
        await using var bench = await MachineTests.StartAsync();
        var charter = OnCurlew(bench).Replace("on: curlew", "on: curlew\n    streams: dump", StringComparison.Ordinal);
        await bench.ApplyAsync(charter + "\nsteps: { dump: { command: [pg_dump], keeps-as: register.dump } }\n");
        using var curlew = await TestAgent.JoinedAsync(bench, "curlew");
        await bench.SendAsync<RunAnswer>(HttpMethod.Post, "jobs/register/runs");
        var order = Assert.Single((await curlew.SayAsync<OrdersAnswer>("orders", curlew.Self())).Orders);
        Assert.Equal(("dump", "register.dump"), Assert.Single(order.Streams!) is var s ? (s.Step.Name, s.KeepsAs) : default);
        await curlew.SayAsync<CopyBeginAnswer>($"copies/{order.Token}/begin", new CopyBeginRequest([]));
        var report = new CopyReportRequest(new CopyFigures(1, 1, 1, 0, 1, 0, 0, 0, 1, 0), 0, []);
        var ended = new CopyCommitRequest(report, [.. order.Takes], 1, 1, 0, 0, [new string('0', 64)], null);
        var why = await curlew.RefusedAsync($"copies/{order.Token}/commit", ended, HttpStatusCode.BadRequest);
        Assert.Contains("lacks /.streams/dump/register.dump", why);
    }

    /// <summary>What may be read is one copy, by the machine that it is given back on, as long as that run lasts.</summary>
    [Fact]
    public async Task An_agent_that_lies_about_a_restore_reads_and_ends_nothing_of_another()
    {
        await using var bench = await MachineTests.StartAsync();
        await bench.ApplyAsync(bench.Charter());
        using var curlew = await TestAgent.JoinedAsync(bench, "curlew");
        using var plover = await TestAgent.JoinedAsync(bench, "plover");
        await bench.BackUpAsync();
        var copy = Assert.Single(await bench.CopiesAsync());
        foreach (
            var (machine, to, reason, status, says) in new[]
            {
                ("curlew", "/x", null, HttpStatusCode.Conflict, "say why"),
                ("curlew", "/x", "  ", HttpStatusCode.Conflict, "say why"),
                ("curlew", "x", "why", HttpStatusCode.BadRequest, "not an absolute path"),
                ("curlew", "/x", new string('w', 501), HttpStatusCode.BadRequest, "reason"),
                ("dunlin", "/x", "why", HttpStatusCode.NotFound, "no machine 'dunlin'"),
            }
        )
        {
            var refused = await bench.RawAsync(
                HttpMethod.Post,
                $"copies/{copy.Id}/restores",
                new RestoreRequest([], to, null, machine, reason)
            );
            Assert.Equal(status, refused.StatusCode);
            Assert.Contains(says, await refused.Content.ReadAsStringAsync());
        }
        var run = await GiveBackAsync();
        var order = Assert.Single((await curlew.SayAsync<OrdersAnswer>("orders", curlew.Self())).Restores!);
        Assert.Equal(("curlew", copy.Id, copy.Machine, "it moved"), (run.Machine, order.CopyId, order.Of, order.Reason));
        Assert.Empty((await plover.SayAsync<OrdersAnswer>("orders", plover.Self())).Restores!);
        var at = $"restores/{order.Token}";
        var begin = new OrderBeginRequest();
        await plover.RefusedAsync($"{at}/begin", begin, HttpStatusCode.Gone);
        await curlew.SayAsync<CopyReportAnswer>($"{at}/begin", begin);
        // Its token makes no copy.
        await curlew.RefusedAsync($"copies/{order.Token}/begin", new CopyBeginRequest([]), HttpStatusCode.Gone);
        var report = new CopyReportRequest(new CopyFigures(-1, long.MaxValue, 1, 0, 1, 0, 0, 0, 1, 0), 0, []);
        var end = new RestoreEndRequest(report, -5, 1, 1, long.MaxValue, 0, 0, 0, "\u202e\u0007x");
        foreach (
            var (path, body, expected) in new[]
            {
                ("chunks", "", HttpStatusCode.BadRequest),
                ("chunks", new string('\u0001', 34), HttpStatusCode.BadRequest),
                ("chunks", new string('\u0001', 33), HttpStatusCode.OK),
                ("chunks", new string('x', 2_000_000), HttpStatusCode.RequestEntityTooLarge),
                ("list", "", HttpStatusCode.NotFound),
                ("end", "{}", HttpStatusCode.BadRequest),
            }
        )
        {
            var (status, text) = await curlew.RawAsync($"{at}/{path}", body);
            Assert.True(expected == status, $"{path} of {body.Length}: {status} {text}");
            Assert.DoesNotContain("   at ", text);
            Assert.NotEqual(HttpStatusCode.OK, (await plover.RawAsync($"{at}/{path}", body)).Status);
        }
        Assert.Equal(RunState.Running, (await bench.GetAsync<RunAnswer>($"runs/{run.Id}")).State);
        await bench.SendAsync<RunAnswer>(HttpMethod.Post, $"runs/{run.Id}/cancel");
        await bench.IdleAsync();
        foreach (var (path, body) in new (string, object)[] { ("report", report), ("end", end), ("begin", begin) })
            await curlew.RefusedAsync($"{at}/{path}", body, HttpStatusCode.Gone);
        Assert.Equal(HttpStatusCode.Gone, (await curlew.RawAsync($"{at}/chunks", new string('\u0001', 33))).Status);
        Assert.Equal(Outcome.Cancelled, (await bench.GetAsync<RunAnswer>($"runs/{run.Id}")).Outcome);

        // Ended once; figures that cannot be are shown as something that can.
        run = await GiveBackAsync();
        at = $"restores/{Assert.Single((await curlew.SayAsync<OrdersAnswer>("orders", curlew.Self())).Restores!).Token}";
        await curlew.SayAsync<CopyReportAnswer>($"{at}/begin", begin);
        await curlew.SayAsync<CopyReportAnswer>($"{at}/end", end);
        await bench.IdleAsync();
        await curlew.SayAsync<CopyReportAnswer>($"{at}/end", end with { Problems = 7 });
        var ended = await bench.GetAsync<RunAnswer>($"runs/{run.Id}");
        Assert.Equal(Outcome.Ok, ended.Outcome);
        Assert.StartsWith("0 files", ended.Sentence);

        async Task<RunAnswer> GiveBackAsync() =>
            await bench.SendAsync<RunAnswer>(
                HttpMethod.Post,
                $"copies/{copy.Id}/restores",
                new RestoreRequest([], "/srv/back", null, "curlew", "it moved")
            );
    }

    private static IEnumerable<(string Path, string Body, HttpStatusCode Expected)> Lies(string token)
    {
        var at = $"copies/{token}";
        const string figures =
            """{"items":-5,"selectedBytes":9223372036854775807,"readBytes":1,"skipped":0,"filesRead":0,"known":0,"altered":0,"gone":0,"added":0,"moving":0}""";
        var report = $$"""{"figures":{{figures}},"first":0,"lines":[]}""";
        yield return ($"{at}/batches", "no batch", HttpStatusCode.BadRequest);
        yield return ($"{at}/batches", "IKB1 and something that is no block", HttpStatusCode.BadRequest);
        yield return ($"{at}/batches", new string('x', 8 * 1024 * 1024 + 1), HttpStatusCode.RequestEntityTooLarge);
        yield return ($"{at}/has", "odd", HttpStatusCode.BadRequest);
        yield return ($"{at}/has", new string('x', 1024 * 1024 + 1), HttpStatusCode.RequestEntityTooLarge);
        yield return ($"{at}/report", report, HttpStatusCode.OK);
        yield return ($"{at}/report", report.Replace("[]", "null", StringComparison.Ordinal), HttpStatusCode.BadRequest);
        yield return (
            $"{at}/report",
            report.Replace(
                "[]",
                $"[{string.Join(',', Enumerable.Repeat("{\"severity\":\"info\",\"text\":\"x\"}", 1001))}]",
                StringComparison.Ordinal
            ),
            HttpStatusCode.BadRequest
        );
        yield return ($"{at}/delete", report, HttpStatusCode.NotFound);
        foreach (
            var (takes, root, items, depth, expected) in new[]
            {
                ("[\"/x\"]", "[]", "1", "0", HttpStatusCode.BadRequest),
                ("[\"/x\"]", "[\"zz\"]", "1", "0", HttpStatusCode.BadRequest),
                ("[\"relative\"]", $"[\"{new string('0', 64)}\"]", "1", "0", HttpStatusCode.BadRequest),
                ("[]", $"[\"{new string('0', 64)}\"]", "1", "0", HttpStatusCode.BadRequest),
                ("[\"/x\"]", $"[\"{new string('0', 64)}\"]", "-1", "0", HttpStatusCode.BadRequest),
                ("[\"/x\"]", $"[\"{new string('0', 64)}\"]", "1", "7", HttpStatusCode.BadRequest),
                ("[\"/x\"]", $"[\"{new string('0', 64)}\"]", "1", "0", HttpStatusCode.Conflict),
            }
        )
            yield return (
                $"{at}/commit",
                $$"""{"report":{{report}},"takes":{{takes}},"items":{{items}},"bytes":1,"skipped":0,"depth":{{depth}},"root":{{root}},"before":"../../etc"}""",
                expected
            );
    }
}
