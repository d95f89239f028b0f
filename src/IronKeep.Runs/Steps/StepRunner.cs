using System.ComponentModel;
using System.Diagnostics;
using IronKeep.Core.Machines;
using IronKeep.Core.Watching;

namespace IronKeep.Runs.Steps;

/// <summary>
/// Runs the commands of steps, where this machine allows them: an argument list and no shell, nothing of our own surroundings, an end after
/// its time, and what it says in the run's log. <paramref name="allowed"/> is asked anew each time; its refusal is an
/// <see cref="IOException"/>.
/// </summary>
public sealed class StepRunner(Func<AllowedCommands> allowed, string allowedFile)
{
    private const int MostLines = 100,
        MostLetters = 500;
    private static readonly TimeSpan Lingers = TimeSpan.FromSeconds(1);

    /// <summary>
    /// Runs a step to its end. What went wrong, in words that follow its name; null: nothing. Cancelling ends the command.
    /// </summary>
    public async Task<string?> RunAsync(
        RunStep step,
        IReadOnlyDictionary<string, string> surroundings,
        RunLog log,
        CancellationToken cancel
    )
    {
        try
        {
            if (step.Command.IsDefaultOrEmpty || !allowed().Allows(step.Command, step.As))
                return $"is not allowed on this machine: list '{string.Join(' ', step.Command.IsDefault ? [] : step.Command)}'"
                    + (step.As is null ? "" : $" as {step.As}")
                    + $" in {allowedFile} there";
        }
        catch (IOException e)
        {
            return $"is not allowed on this machine: {e.Message}";
        }
        using var within = CancellationTokenSource.CreateLinkedTokenSource(cancel);
        within.CancelAfter(step.Limit);
        Process process;
        try
        {
            process = Process.Start(StartOf(step, surroundings))!;
        }
        catch (Exception e) when (e is Win32Exception or IOException or InvalidOperationException or UnauthorizedAccessException)
        {
            return $"cannot be run: {e.Message}";
        }
        using (process)
        {
            // One that asks is answered with the end.
            process.StandardInput.Close();
            var said = new LastLines(MostLines, MostLetters);
            var reading = Task.WhenAll(said.ReadAsync(process.StandardOutput), said.ReadAsync(process.StandardError));
            try
            {
                await process.WaitForExitAsync(within.Token);
                // What it left behind may hold its outputs open; nobody waits for that.
                await Task.WhenAny(reading, Task.Delay(Lingers, CancellationToken.None));
            }
            catch (OperationCanceledException)
            {
                Kill(process);
                said.Say(step.Name, log);
                cancel.ThrowIfCancellationRequested();
                return $"did not end within {step.Limit.TotalSeconds:0} s and was ended";
            }
            said.Say(step.Name, log);
            return process.ExitCode == 0 ? null
                : said.Last is { } last ? $"ended with {process.ExitCode}: {last}"
                : $"ended with {process.ExitCode}";
        }
    }

    private static ProcessStartInfo StartOf(RunStep step, IReadOnlyDictionary<string, string> surroundings)
    {
        var start = new ProcessStartInfo(step.Command[0])
        {
            WorkingDirectory = "/",
            RedirectStandardInput = true,
            RedirectStandardOutput = true,
            RedirectStandardError = true,
        };
        if (step.As is { } user)
            start.UserName = user;
        foreach (var word in step.Command.Skip(1))
            start.ArgumentList.Add(word);
        start.Environment.Clear();
        start.Environment["PATH"] = "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin";
        start.Environment["LANG"] = "C.UTF-8";
        foreach (var (name, value) in surroundings)
            start.Environment[name] = value;
        return start;
    }

    private static void Kill(Process process)
    {
        try
        {
            process.Kill(entireProcessTree: true);
        }
        catch (Exception e) when (e is InvalidOperationException or Win32Exception or AggregateException)
        {
            // It has ended by itself.
        }
    }
}
