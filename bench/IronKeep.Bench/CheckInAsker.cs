using System.Diagnostics;
using System.Globalization;
using System.Net;
using System.Net.Sockets;
using System.Text;

namespace IronKeep.Bench;

/// <summary>
/// Checks in a thousand times a second, from a process of its own and with as little work as can be, so that what is measured is the
/// answering side. Each check-in has its instant, whether the one before was answered or not; what waits behind a slow answer counts as
/// slow.
/// </summary>
internal static class CheckInAsker
{
    private const int Connections = 250,
        SliceSeconds = 5;

    /// <summary>Arguments: the service's port, a file with one secret a line, check-ins a second, and for how many seconds.</summary>
    public static async Task AskAsync(int port, string secrets, int perSecond, int seconds)
    {
        var lines = await File.ReadAllLinesAsync(secrets);
        var (times, taken, unanswered) = (new double[perSecond * seconds], 0, 0);
        var clock = Stopwatch.StartNew();
        await Task.WhenAll(
            Enumerable
                .Range(0, Connections)
                .Select(c =>
                    Task.Run(async () =>
                    {
                        Socket? socket = null;
                        var buffer = new byte[4096];
                        for (var i = c; i < times.Length; i += Connections)
                        {
                            var due = TimeSpan.FromSeconds((double)i / perSecond);
                            if (due - clock.Elapsed is { TotalMilliseconds: > 1 } rest)
                                await Task.Delay(rest);
                            // Each job says in turn that it starts and that it ended well.
                            var request = Encoding.ASCII.GetBytes(
                                $"GET /check-in/{lines[i % lines.Length]}/{(i / lines.Length % 2 == 0 ? "start" : "ok")} HTTP/1.1\r\nHost: "
                                    + $"127.0.0.1:{port}\r\n\r\n"
                            );
                            try
                            {
                                if (socket is null)
                                    await (socket = new Socket(SocketType.Stream, ProtocolType.Tcp) { NoDelay = true }).ConnectAsync(
                                        IPAddress.Loopback,
                                        port
                                    );
                                await socket.SendAsync(request);
                                if (await AnswerAsync(socket, buffer))
                                    Interlocked.Increment(ref taken);
                            }
                            catch (Exception e) when (e is SocketException or EndOfStreamException)
                            {
                                Interlocked.Increment(ref unanswered);
                                socket?.Dispose();
                                socket = null;
                            }
                            times[i] = (clock.Elapsed - due).TotalMilliseconds;
                        }
                        socket?.Dispose();
                    })
                )
        );
        Console.WriteLine(
            $"99th percentile of each {SliceSeconds} s: "
                + string.Join(
                    ", ",
                    times
                        .Chunk(perSecond * SliceSeconds)
                        .Select(s => s.Order().ElementAt(s.Length * 99 / 100).ToString("0", CultureInfo.InvariantCulture))
                )
                + $" ms"
        );
        Array.Sort(times);
        Console.WriteLine(
            string.Create(
                CultureInfo.InvariantCulture,
                $"{times.Length} check-ins in {clock.Elapsed.TotalSeconds:0.0} s: {taken} taken, {times.Length - taken - unanswered} "
                    + $"refused, {unanswered} unanswered; median {times[times.Length / 2]:0.0} ms, 99th percentile "
                    + $"{times[times.Length * 99 / 100]:0.0} ms, the slowest {times[^1]:0} ms"
            )
        );
    }

    /// <summary>Reads one answer to its end; true when it is 200.</summary>
    private static async Task<bool> AnswerAsync(Socket socket, byte[] buffer)
    {
        var length = 0;
        while (true)
        {
            var read = await socket.ReceiveAsync(buffer.AsMemory(length));
            if (read == 0)
                throw new EndOfStreamException();
            length += read;
            var end = buffer.AsSpan(0, length).IndexOf("\r\n\r\n"u8);
            if (end < 0)
                continue;
            var head = Encoding.ASCII.GetString(buffer, 0, end);
            var body = head.Contains("Transfer-Encoding: chunked", StringComparison.OrdinalIgnoreCase)
                ? buffer.AsSpan(end + 4, length - end - 4).IndexOf("0\r\n\r\n"u8) >= 0
                : length - end - 4 >= LengthIn(head);
            if (body)
                return head.StartsWith("HTTP/1.1 200", StringComparison.Ordinal);
        }
    }

    private static int LengthIn(string head)
    {
        var at = head.IndexOf("Content-Length: ", StringComparison.OrdinalIgnoreCase);
        return at < 0 ? 0 : int.Parse(head[(at + 16)..].Split('\r')[0], CultureInfo.InvariantCulture);
    }
}
