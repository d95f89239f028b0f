using System.CommandLine;
using IronKeep.Cli.Printing;
using IronKeep.Cli.Shell;
using IronKeep.Contracts;
using IronKeep.Core.Quantities;

namespace IronKeep.Cli.Commands;

/// <summary>The service itself, and the channels through which it tells.</summary>
internal static class ServiceCommands
{
    public static Command Make() => Common.Noun("service", "The service itself", One(), ConfirmClock(), RenameMachine());

    public static Command Channels() => Common.Noun("channel", "Ways to tell somebody", ListChannels(), Test());

    private static Command One() => Common.Verb("show", "What the service finds when it looks at itself", async (parsed, client, cancel) =>
        {
            var check = await client.GetAsync<SelfCheckAnswer>("service", cancel);
            if (Common.AsJson(parsed))
                Show.Json(check);
            else
            {
                Show.Line($"Iron Keep {check.Version}, started {Show.When(check.StartedAt)}, {(check.Ready ? "ready" : "NOT READY")}");
                Show.Table(
                    ["what", "state", ""],
                    check.Findings.Select(f => new[] { f.What, f.State.Word(), f.Sentence }),
                    "nothing to look at"
                );
            }
            return check.Findings.All(f => f.State == FindingState.Well) ? Root.Done : Root.Findings;
        });

    private static Command ConfirmClock() =>
        Common.Verb(
            "confirm-clock",
            "Says that the time is right as it is now, after the clock has jumped",
            async (parsed, client, cancel) =>
            {
                await client.PostAsync<object>("service/confirm-clock", null, cancel);
                Show.Line("The clock is trusted again; what was due in between is recorded as missed");
                return Root.Done;
            }
        );

    private static Command RenameMachine()
    {
        var name = new Argument<string>("NAME") { Description = "What the machine is called from now on" };
        return Common.Verb(
            "rename-machine",
            "Renames the service's machine; its history, copies and freshness go with it",
            async (parsed, client, cancel) =>
            {
                var answer = await client.PostAsync<RenameAnswer>(
                    "service/rename-machine",
                    new RenameRequest(parsed.GetValue(name)!),
                    cancel
                );
                if (Common.AsJson(parsed))
                    Show.Json(answer);
                else
                    Show.Line(
                        $"The machine was called {answer.Before} and is called {answer.Name} now; where the settings name it, change them "
                            + $"before the next start"
                    );
                return Root.Done;
            },
            name
        );
    }

    private static Command ListChannels() =>
        Common.Verb("list", "All channels, what waits in them and what went wrong last", async (parsed, client, cancel) =>
        {
            var channels = await client.GetAsync<IReadOnlyList<ChannelAnswer>>("channels", cancel);
            if (Common.AsJson(parsed))
                Show.Json(channels);
            else
                Show.Table(
                    ["channel", "kind", "to", ">waiting", "last sent", "problem"],
                    channels.Select(c => new[] { c.Name, c.Kind.Word(), c.To, $"{c.Waiting}", Show.When(c.LastSent), c.Problem ?? "" }),
                    "no channels: nobody is told of anything; declare one under 'channels' in the charter"
                );
            return channels.All(c => c.Problem is null) ? Root.Done : Root.Findings;
        });

    private static Command Test()
    {
        var name = CompletionCommand.Channel(new Argument<string>("NAME") { Description = "The channel's name" });
        return Common.Verb(
            "test",
            "Sends a test message and says whether it went through",
            async (parsed, client, cancel) =>
            {
                var answer = await client.PostAsync<ChannelTestAnswer>(
                    $"channels/{Uri.EscapeDataString(parsed.GetValue(name)!)}/test",
                    null,
                    cancel
                );
                if (Common.AsJson(parsed))
                    Show.Json(answer);
                else
                    Show.Line(
                        answer.Sent
                            ? $"the test went through channel {parsed.GetValue(name)}"
                            : $"the test did not go through: {answer.Problem}"
                    );
                return answer.Sent ? Root.Done : Root.Failed;
            },
            name
        );
    }
}
