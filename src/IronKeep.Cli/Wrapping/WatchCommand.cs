using System.CommandLine;
using System.Diagnostics;
using IronKeep.Cli.Client;
using IronKeep.Cli.Commands;
using IronKeep.Cli.Printing;
using IronKeep.Contracts;
using IronKeep.Core.Watching;

namespace IronKeep.Cli.Wrapping;

/// <summary>Wraps a command of a watched job: reports its begin and end, and is otherwise not noticed.</summary>
internal static class WatchCommand
{
    public const string Word = "watch";
    private static readonly TimeSpan WaitsAtEnd = TimeSpan.FromSeconds(15),
        TriesAgainAfter = TimeSpan.FromSeconds(30),
        GivesUpAfter = TimeSpan.FromDays(7);

    private static Option<string?> AddressOption =>
        new("--address")
        {
            Description =
                "The job's check-in address; else IRONKEEP_CHECK_IN, else the service that you signed in to, else this machine's agent",
        };

    public static Command Make()
    {
        var job = new Argument<string>("JOB") { Description = "The watched job that the command carries out" };
        var command = new Argument<string[]>("COMMAND")
        {
            Description = "Behind --: the command and its arguments",
            Arity = ArgumentArity.OneOrMore,
        };
        var address = AddressOption;
        var on = JobCommands.On;
        var watch = new Command(Word, "Carries out a command and reports how it went; its output and its exit status are the command's own")
        {
            job,
            command,
            address,
            on,
        };
        watch.SetAction(
            async (parsed, _) =>
                await RunAsync(
                    parsed.GetValue(job)!,
                    parsed.GetValue(command)!,
                    parsed.GetValue(address) ?? Environment.GetEnvironmentVariable("IRONKEEP_CHECK_IN"),
                    parsed.GetValue(Common.Url),
                    parsed.GetValue(on)
                )
        );
        return watch;
    }

    /// <summary>Delivers what waits in the spool; for a crontab, and for what is begun behind a command that could not.</summary>
    public static Command Deliver()
    {
        var stay = new Option<bool>("--stay") { Description = "Try until all of it is delivered, for a week at most" };
        var deliver = new Command("deliver", "Delivers reports of wrapped commands that the service has not taken yet") { stay };
        deliver.SetAction(
            async (parsed, cancel) =>
            {
                using var courier = new Courier();
                var spool = new Spool();
                var until = DateTime.UtcNow + GivesUpAfter;
                // One that stays is enough.
                using var staying = parsed.GetValue(stay) ? spool.TryLock("staying.lock") : null;
                if (parsed.GetValue(stay) && staying is null)
                    return Root.Done;
                while (true)
                {
                    var problem = await spool.DeliverAsync(courier.SendAsync);
                    if (problem is null)
                        return Root.Done;
                    if (!parsed.GetValue(stay) || DateTime.UtcNow > until)
                        throw new AnswerException(Root.Failed, $"reports wait in {spool.Folder}: {problem}");
                    await Task.Delay(TriesAgainAfter, cancel);
                }
            }
        );
        return deliver;
    }

    private static async Task<int> RunAsync(string job, string[] command, string? address, string? url, string? on)
    {
        using var courier = new Courier();
        Spool? spool = null;
        try
        {
            spool = new Spool();
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            // The backup matters more than the word of it.
            Show.Error(
                $"Ironkeep watch: the spool cannot be made ({e.Message}); the command is carried out all the same, and its report may be "
                    + $"lost. Name a folder in IRONKEEP_SPOOL"
            );
        }
        var began = DateTimeOffset.UtcNow;
        var rules = courier.RulesAsync(job, address, url, on, spool?.Folder);
        var told = ReportAsync(new CheckInRequest(CheckInState.Started) { At = began });
        var end = await new Wrapped(command[0], command[1..], rules).RunAsync();
        await told;
        var request = new CheckInRequest(CheckInState.Ended, end.Status, end.Note)
        {
            Began = began,
            At = DateTimeOffset.UtcNow,
            Log = end.Tail,
            LogCut = end.Cut,
            Read = end.Read,
        };
        if (await ReportAsync(request) is { } problem)
        {
            Show.Error(
                $"Ironkeep watch: the service has not taken the report yet ({problem}); it is kept and delivered when the service is back"
            );
            LeaveBehind();
        }
        return end.Status;

        async Task<string?> ReportAsync(CheckInRequest said)
        {
            var report = new Reported(job, address, url, said with { Id = Guid.NewGuid().ToString("n") }, on);
            try
            {
                if (spool is null)
                    return (await courier.SendAsync(report)).Problem;
                await Task.Run(() => spool.Put(report));
                return await spool.DeliverAsync(courier.SendAsync).WaitAsync(WaitsAtEnd);
            }
            catch (Exception e) when (e is IOException or UnauthorizedAccessException or TimeoutException)
            {
                return e.Message;
            }
        }
    }

    /// <summary>
    /// Something that stays and delivers, apart from the command's session, so that nobody waits for it. Where it cannot be begun, the next
    /// call delivers.
    /// </summary>
    private static void LeaveBehind()
    {
        try
        {
            var self = Environment.ProcessPath!;
            string[] again =
                Path.GetFileNameWithoutExtension(self) == "dotnet"
                    ? [self, Path.Combine(AppContext.BaseDirectory, "ironkeep.dll")]
                    : [self];
            var start = new ProcessStartInfo("setsid") { UseShellExecute = false, WorkingDirectory = "/" };
            foreach (var word in (string[])["sh", "-c", "exec \"$@\" </dev/null >/dev/null 2>&1", "sh", .. again, "deliver", "--stay"])
                start.ArgumentList.Add(word);
            Process.Start(start)?.Dispose();
        }
        catch (Exception e) when (e is System.ComponentModel.Win32Exception or InvalidOperationException)
        {
            // The next call delivers.
        }
    }
}
