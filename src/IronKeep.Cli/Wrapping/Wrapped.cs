using System.ComponentModel;
using System.Diagnostics;
using System.Runtime.InteropServices;
using IronKeep.Contracts;
using IronKeep.Core.Watching;
using IronKeep.Core.Watching.Logs;
using IronKeep.Stores.Posix;
using NodaTime;

namespace IronKeep.Cli.Wrapping;

/// <summary>
/// How a wrapped command ended: its exit status as a shell tells it (128 and the signal, where one ended it), the end of what it wrote, and
/// what rules made of all of it.
/// </summary>
internal sealed record WrappedEnd(int Status, string Tail, bool Cut, ReadLog? Read, string? Note);

/// <summary>
/// A command that is carried out with its output passed on as it comes, byte by byte and unchanged; the end of it is kept, and judged by
/// rules on the way. Signals go on to it. No shell is involved.
/// </summary>
internal sealed class Wrapped(string command, IReadOnlyList<string> arguments, Task<LogRules?> rules)
{
    private const int MostTail = 64 * 1024;
    private const int MostEarly = 16 * 1024 * 1024;
    private static readonly TimeSpan AfterExit = TimeSpan.FromSeconds(1);
    private const int NotFound = 127,
        NotExecutable = 126;
    private static readonly PosixSignal[] Forwarded =
    [
        PosixSignal.SIGTERM,
        PosixSignal.SIGHUP,
        PosixSignal.SIGINT,
        PosixSignal.SIGQUIT,
        (PosixSignal)10,
        (PosixSignal)12,
    ];
    private readonly Lock gate = new();
    private readonly byte[] tail = new byte[2 * MostTail];
    private readonly System.Buffers.ArrayBufferWriter<byte> early = new();
    private readonly LogDecoder decoder = new();
    private int length;
    private bool cut,
        isTooMuch;
    private long passed;
    private LogReader? reader;
    private LogRun? run;
    private char[] text = [];

    public async Task<WrappedEnd> RunAsync()
    {
        var start = new ProcessStartInfo(command)
        {
            RedirectStandardOutput = true,
            RedirectStandardError = true,
            UseShellExecute = false,
        };
        foreach (var argument in arguments)
            start.ArgumentList.Add(argument);
        Process process;
        try
        {
            process = Process.Start(start)!;
        }
        catch (Win32Exception e)
        {
            var missing = e.NativeErrorCode == 2;
            var words = missing ? $"{command} was not found" : $"{command} cannot be started: {e.Message}";
            await Console.Error.WriteLineAsync($"ironkeep watch: {words}");
            return new WrappedEnd(missing ? NotFound : NotExecutable, "", false, null, words);
        }
        using (process)
        {
            var signals = Forwarded.Select(s => PosixSignalRegistration.Create(s, context => Forward(context, process.Id))).ToList();
            try
            {
                using var output = Console.OpenStandardOutput();
                using var errors = Console.OpenStandardError();
                var passing = Task.WhenAll(
                    PassAsync(process.StandardOutput.BaseStream, output),
                    PassAsync(process.StandardError.BaseStream, errors)
                );
                await process.WaitForExitAsync();
                // What it left running in the background may hold its output open; nobody waits for that.
                for (var seen = -1L; !passing.IsCompleted && seen != Interlocked.Read(ref passed); )
                {
                    seen = Interlocked.Read(ref passed);
                    await Task.WhenAny(passing, Task.Delay(AfterExit));
                }
            }
            finally
            {
                foreach (var signal in signals)
                    signal.Dispose();
            }
            return new WrappedEnd(
                process.ExitCode,
                Tail(),
                cut,
                await ReadAsync(),
                process.ExitCode > 128 ? $"ended by signal {process.ExitCode - 128}" : null
            );
        }
    }

    private static void Forward(PosixSignalContext context, int child)
    {
        context.Cancel = true;
        // At a terminal the keyboard's signals go to the whole group already.
        if (context.Signal is PosixSignal.SIGINT or PosixSignal.SIGQUIT && !Console.IsInputRedirected)
            return;
        var number = context.Signal switch
        {
            PosixSignal.SIGTERM => 15,
            PosixSignal.SIGHUP => 1,
            PosixSignal.SIGINT => 2,
            PosixSignal.SIGQUIT => 3,
            var other => (int)other,
        };
        _ = Signals.Send(child, number);
    }

    /// <summary>
    /// Passes bytes on as they come. Where nobody reads them any more, the command goes on and its log is kept all the same.
    /// </summary>
    private async Task PassAsync(Stream from, Stream to)
    {
        var bytes = new byte[16 * 1024];
        var heard = true;
        while (await from.ReadAsync(bytes) is > 0 and var read)
        {
            try
            {
                if (heard)
                {
                    await to.WriteAsync(bytes.AsMemory(0, read));
                    await to.FlushAsync();
                }
            }
            catch (IOException)
            {
                heard = false;
            }
            Interlocked.Add(ref passed, read);
            lock (gate)
                Keep(bytes.AsSpan(0, read));
        }
    }

    private void Keep(ReadOnlySpan<byte> bytes)
    {
        Read(bytes);
        while (bytes.Length > 0)
        {
            var piece = bytes[..Math.Min(bytes.Length, tail.Length - length)];
            piece.CopyTo(tail.AsSpan(length));
            length += piece.Length;
            bytes = bytes[piece.Length..];
            if (length < tail.Length)
                continue;
            tail.AsSpan(length - MostTail, MostTail).CopyTo(tail);
            (length, cut) = (MostTail, true);
        }
    }

    /// <summary>What comes before the rules are known waits for them.</summary>
    private void Read(ReadOnlySpan<byte> bytes)
    {
        if (!rules.IsCompletedSuccessfully)
        {
            // Without all of it nothing can be judged here; the end of it is, where it is reported.
            if (early.WrittenCount + bytes.Length > MostEarly)
                isTooMuch = true;
            else
                System.Buffers.BuffersExtensions.Write(early, bytes);
            return;
        }
        if (isTooMuch || rules.Result is not { } known)
            return;
        if (reader is null)
        {
            reader = new LogReader(
                Core.Watching.RunJudge.WithoutBounds(known),
                DateTimeZone.Utc,
                SystemClock.Instance.GetCurrentInstant(),
                r => run = r
            );
            Feed(early.WrittenSpan);
            early.Clear();
        }
        Feed(bytes);
    }

    private void Feed(ReadOnlySpan<byte> bytes)
    {
        if (bytes.Length == 0)
            return;
        if (text.Length < LogDecoder.MostOf(bytes.Length))
            text = new char[LogDecoder.MostOf(bytes.Length)];
        reader!.Feed(text.AsSpan(0, decoder.Decode(bytes, text)));
    }

    private string Tail()
    {
        var from = Math.Max(0, length - MostTail);
        cut |= from > 0;
        var (last, room) = (new LogDecoder(), new char[LogDecoder.MostOf(MostTail)]);
        return new string(room, 0, last.Decode(tail.AsSpan(from, length - from), room)).Replace("\0", "", StringComparison.Ordinal);
    }

    private async Task<ReadLog?> ReadAsync()
    {
        if (await rules is null)
            return null;
        lock (gate)
        {
            Read([]);
            reader?.Finish();
        }
        if (run is null)
            return null;
        return ReadLog.Of(run, 0, run.Seconds, reader!.Lines, hasEnd: true);
    }
}
