using System.ComponentModel;
using System.Diagnostics;
using System.Text;
using IronKeep.Catalogue;
using IronKeep.Core.Charters;
using IronKeep.Service.Basics;
using IronKeep.Stores.Posix;
using Microsoft.Extensions.Options;

namespace IronKeep.Service.Telling;

/// <summary>
/// Hands messages to a command of the site's own, such as its pager: an argument list and no shell, the event as JSON at its standard
/// input, an end after its time. Only what lies in the folder that the settings name is run, and nothing that others may change.
/// </summary>
internal sealed class CommandCarrier(IOptions<ServiceSettings> settings) : IChannelCarrier
{
    private const int MostSaid = 300;
    private static readonly TimeSpan Lingers = TimeSpan.FromSeconds(1);

    public ChannelKind Kind => ChannelKind.Command;

    public async Task CarryAsync(ChannelDefinition channel, Message telling, CancellationToken cancel)
    {
        var name = channel.Command[0];
        var start = new ProcessStartInfo(FileOf(name))
        {
            WorkingDirectory = "/",
            RedirectStandardInput = true,
            RedirectStandardOutput = true,
            RedirectStandardError = true,
        };
        foreach (var argument in channel.Command.Skip(1))
            start.ArgumentList.Add(Filled(argument, telling));
        // Nothing of the service's own surroundings, where secrets can stand.
        var path = start.Environment.TryGetValue("PATH", out var known) ? known : null;
        start.Environment.Clear();
        start.Environment["PATH"] = path ?? "/usr/bin:/bin";
        start.Environment["LANG"] = "C.UTF-8";
        using var within = CancellationTokenSource.CreateLinkedTokenSource(cancel);
        within.CancelAfter(TimeSpan.FromSeconds(channel.CommandSeconds));
        Process process;
        try
        {
            process = Process.Start(start)!;
        }
        catch (Exception e) when (e is Win32Exception or IOException)
        {
            throw new ChannelFailedException($"command {name} cannot be run: {e.Message}", e);
        }
        using (process)
        {
            var said = LastOfAsync(process.StandardError, within.Token);
            var rest = LastOfAsync(process.StandardOutput, within.Token);
            try
            {
                await TellAsync(process, CloudEvent.Of(telling, settings.Value.Machine), within.Token);
                await process.WaitForExitAsync(within.Token);
                // What it left behind may hold its outputs open; nobody waits for that.
                await Task.WhenAny(Task.WhenAll(said, rest), Task.Delay(Lingers, within.Token));
            }
            catch (OperationCanceledException e)
            {
                Kill(process);
                cancel.ThrowIfCancellationRequested();
                throw new ChannelFailedException($"command {name} did not end within {channel.CommandSeconds} s and was ended", e);
            }
            if (process.ExitCode == 0)
                return;
            var words = Said(said) is { Length: > 0 } error ? error : Said(rest);
            throw new ChannelFailedException($"command {name} ended with {process.ExitCode}{(words.Length > 0 ? $": {words}" : "")}");
        }
    }

    private static string Said(Task<string> read) => read.IsCompletedSuccessfully ? read.Result : "";

    /// <summary>The command's file, if nobody but root and the service's user can change it or put another in its place.</summary>
    private string FileOf(string name)
    {
        var folder = settings.Value.CommandsFolder;
        try
        {
            using var open = OpenFolder.AtPath(folder);
            if (open.Facts(Encoding.UTF8.GetBytes(name)) is not { } file)
                throw new ChannelFailedException(
                    $"there is no command {name} in {folder}; put it there, executable and writable for root alone"
                );
            if (file.Kind != EntryKind.File || new DirectoryInfo(folder).LinkTarget is not null)
                throw new ChannelFailedException($"command {name} in {folder} is a link or no file; put the file itself there");
            if (!OwnFiles.IsOurs(file) || !OwnFiles.IsOurs(open.Facts()))
                throw new ChannelFailedException(
                    $"others than root and the service's user may change command {name} or {folder}; take that right away: chown root, "
                        + "chmod go-w"
                );
        }
        catch (PosixException e)
        {
            throw new ChannelFailedException($"command {name} cannot be looked for in {folder}: {e.Message}", e);
        }
        return Path.Combine(folder, name);
    }

    private static string Filled(string argument, Message telling) =>
        argument
            .Replace("{subject}", telling.Subject, StringComparison.Ordinal)
            .Replace("{text}", telling.Body.TrimEnd(), StringComparison.Ordinal)
            .Replace("\0", "", StringComparison.Ordinal);

    private static async Task TellAsync(Process process, string text, CancellationToken cancel)
    {
        try
        {
            await process.StandardInput.WriteAsync(text.AsMemory(), cancel);
            process.StandardInput.Close();
        }
        catch (IOException)
        {
            // One that does not want to read it needs not.
        }
    }

    /// <summary>The last line of what it says; the rest is read and dropped, so that it never waits for us.</summary>
    private static async Task<string> LastOfAsync(StreamReader from, CancellationToken cancel)
    {
        var buffer = new char[4096];
        var last = new StringBuilder();
        for (int read; (read = await from.ReadAsync(buffer, cancel)) > 0; )
        {
            last.Append(buffer, 0, read);
            if (last.Length > 2 * buffer.Length)
                last.Remove(0, last.Length - buffer.Length);
        }
        var line = last.ToString().TrimEnd().Split('\n')[^1];
        return new string([.. line.Where(c => !char.IsControl(c)).Take(MostSaid)]);
    }

    private static void Kill(Process process)
    {
        try
        {
            process.Kill(entireProcessTree: true);
        }
        catch (InvalidOperationException)
        {
            // It has ended by itself.
        }
    }
}
