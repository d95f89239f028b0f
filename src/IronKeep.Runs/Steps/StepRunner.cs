using System.ComponentModel;
using System.Diagnostics;
using IronKeep.Core.Machines;

namespace IronKeep.Runs.Steps;

/// <summary>
/// Runs the commands of steps, where this machine allows them: an argument list and no shell, nothing of our own surroundings, an end after
/// its time, and what it says in the run's log. <paramref name="allowed"/> is asked anew each time; its refusal is an
/// <see cref="IOException"/>.
/// </summary>
public sealed class StepRunner(Func<AllowedCommands> allowed, string allowedFile)
{
    /// <summary>
    /// Runs a step to its end. What went wrong, in words that follow its name; null: nothing. Cancelling ends the command.
    /// </summary>
    public async Task<string?> RunAsync(
        RunStep step,
        IReadOnlyDictionary<string, string> surroundings,
        RunLog log,
        CancellationToken cancel
    ) => (await TryAsync(step, surroundings, log, cancel)).Problem;

    /// <summary>The same, and whether it was run at all: what could not be run says nothing of what it was to look at.</summary>
    public async Task<(bool Ran, string? Problem)> TryAsync(
        RunStep step,
        IReadOnlyDictionary<string, string> surroundings,
        RunLog log,
        CancellationToken cancel
    )
    {
        var (begun, problem) = Begin(step, surroundings, log, cancel);
        if (begun is null)
            return (false, problem);
        using (begun)
        {
            begun.DropOutput();
            return (true, await begun.EndAsync());
        }
    }

    /// <summary>
    /// Begins a step whose output is read by whoever asks; or why not, in words that follow its name. Cancelling ends the command.
    /// </summary>
    internal (BegunStep? Begun, string? Problem) Begin(
        RunStep step,
        IReadOnlyDictionary<string, string> surroundings,
        RunLog log,
        CancellationToken cancel
    )
    {
        try
        {
            if (step.Command.IsDefaultOrEmpty || !allowed().Allows(step.Command, step.As))
                return (
                    null,
                    $"is not allowed on this machine: list '{string.Join(' ', step.Command.IsDefault ? [] : step.Command)}'"
                        + (step.As is null ? "" : $" as {step.As}")
                        + $" in {allowedFile} there"
                );
        }
        catch (IOException e)
        {
            return (null, $"is not allowed on this machine: {e.Message}");
        }
        try
        {
            return (new BegunStep(step, Process.Start(StartOf(step, surroundings))!, log, cancel), null);
        }
        catch (Exception e) when (e is Win32Exception or IOException or InvalidOperationException or UnauthorizedAccessException)
        {
            return (null, $"cannot be run: {e.Message}");
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
}
