using System.ComponentModel;
using System.Diagnostics;

namespace IronKeep.Runs.Steps;

/// <summary>A command at work. It is ended with its limit, or by cancelling, with all that it began.</summary>
internal sealed class BegunStep : IDisposable
{
    private const int MostLines = 100,
        MostLetters = 500;
    private static readonly TimeSpan Lingers = TimeSpan.FromSeconds(1);
    private readonly RunStep step;
    private readonly Process process;
    private readonly RunLog log;
    private readonly CancellationToken cancel;
    private readonly CancellationTokenSource within;
    private readonly CancellationTokenRegistration ending;
    private readonly LastLines said = new(MostLines, MostLetters);
    private readonly List<Task> reading = [];

    public BegunStep(RunStep step, Process process, RunLog log, CancellationToken cancel)
    {
        (this.step, this.process, this.log, this.cancel) = (step, process, log, cancel);
        // One that asks is answered with the end.
        process.StandardInput.Close();
        reading.Add(said.ReadAsync(process.StandardError));
        within = CancellationTokenSource.CreateLinkedTokenSource(cancel);
        within.CancelAfter(step.Limit);
        // Whoever reads its output comes to its end then.
        ending = within.Token.Register(Kill);
    }

    /// <summary>What it writes to its standard output.</summary>
    public Stream Output => process.StandardOutput.BaseStream;

    /// <summary>Nobody reads its output: the last of it is for the log.</summary>
    public void DropOutput() => reading.Add(said.ReadAsync(process.StandardOutput));

    /// <summary>Waits for its end. What went wrong, in words that follow its name; null: nothing.</summary>
    public async Task<string?> EndAsync()
    {
        try
        {
            await process.WaitForExitAsync(within.Token);
            // What it left behind may hold its outputs open; nobody waits for that.
            await Task.WhenAny(Task.WhenAll(reading), Task.Delay(Lingers, CancellationToken.None));
        }
        catch (OperationCanceledException)
        {
            // Said below.
        }
        said.Say(step.Name, log);
        cancel.ThrowIfCancellationRequested();
        if (within.IsCancellationRequested)
            return $"did not end within {step.Limit.TotalSeconds:0} s and was ended";
        return process.ExitCode == 0 ? null
            : said.Last is { } last ? $"ended with {process.ExitCode}: {last}"
            : $"ended with {process.ExitCode}";
    }

    public void Dispose()
    {
        ending.Dispose();
        Kill();
        within.Dispose();
        process.Dispose();
    }

    private void Kill()
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
