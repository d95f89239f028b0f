using System.Net;
using System.Net.Security;
using System.Net.Sockets;
using System.Security.Cryptography.X509Certificates;
using IronKeep.Core.Schedules;
using IronKeep.Following.Syslog;
using IronKeep.Service.Basics;
using IronKeep.Service.Workers;
using Microsoft.Extensions.Options;

namespace IronKeep.Service.Hearing;

/// <summary>
/// Listens for syslog on the addresses of the settings, in the service that leads. Strangers are dropped before their message is read,
/// connections and lines of one sender are limited, and what is dropped is counted and told.
/// </summary>
public sealed class SyslogListening(
    SyslogSpool spool,
    Leading leading,
    TimeProvider clock,
    IOptions<ServiceSettings> settings,
    ILogger<SyslogListening> log
) : BackgroundService
{
    private const int MostConnections = 200,
        MostOfSender = 20,
        LinesASecond = 2000,
        LinesAtOnce = 20_000,
        MostSenders = 1000;
    private static readonly TimeSpan Idle = TimeSpan.FromMinutes(15),
        Handshake = TimeSpan.FromSeconds(10),
        TellsEvery = TimeSpan.FromHours(1);
    private readonly SyslogSenders senders = SyslogSenders.Of(settings.Value);
    private readonly Lock gate = new();
    private readonly Dictionary<IPAddress, (double Left, long At)> allowances = [];
    private readonly Dictionary<IPAddress, int> connections = [];
    private long toldAt;

    /// <summary>Messages and connections of senders that are not allowed, and lines of those that sent too much.</summary>
    public long Strangers { get; private set; }
    public long Flooded { get; private set; }

    /// <summary>Why an address is not listened on; null while all is well.</summary>
    public string? Problem { get; private set; }

    /// <summary>Where it listens now.</summary>
    public IReadOnlyList<SyslogAddress> Listens { get; private set; } = [];

    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        if (settings.Value.SyslogAddresses.Length == 0)
            return;
        while (!stoppingToken.IsCancellationRequested)
        {
            if (leading.IsLeading || !settings.Value.Ticking)
                await ListenAsync(stoppingToken);
            await Task.Delay(TimeSpan.FromSeconds(1), stoppingToken).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        }
    }

    /// <summary>Listens until another leads, or an address fails.</summary>
    private async Task ListenAsync(CancellationToken stopping)
    {
        using var over = CancellationTokenSource.CreateLinkedTokenSource(stopping);
        var (work, bound) = (new List<Task>(), new List<SyslogAddress>());
        try
        {
            foreach (var text in settings.Value.SyslogAddresses)
            {
                var address = settings.Value.ToSyslogAddress(text)!;
                var socket = Bind(address);
                bound.Add(address with { At = (IPEndPoint)socket.LocalEndPoint! });
                work.Add(
                    address.Over == SyslogOver.Udp
                        ? ReceiveAsync(socket, over.Token)
                        : AcceptAsync(socket, address.Over == SyslogOver.Tls, over.Token)
                );
            }
            (Listens, Problem) = (bound, null);
            log.LogInformation("Listening for syslog on {Addresses}", string.Join(", ", bound));
            while (
                !stopping.IsCancellationRequested && (leading.IsLeading || !settings.Value.Ticking) && work.TrueForAll(w => !w.IsCompleted)
            )
                await Task.Delay(500, stopping).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        }
        catch (SocketException e)
        {
            if (Problem is null)
                log.LogError(
                    "Syslog cannot be listened for on {Addresses}: {Problem}",
                    string.Join(", ", settings.Value.SyslogAddresses),
                    e.Message
                );
            Problem =
                $"{string.Join(", ", settings.Value.SyslogAddresses)} cannot be listened on: {e.Message}; free the port, or name another "
                + $"under IronKeep:SyslogListen";
        }
        finally
        {
            Listens = [];
            await over.CancelAsync();
            await Task.WhenAll(work).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        }
        if (Problem is not null)
            await Task.Delay(TimeSpan.FromSeconds(5), stopping).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
    }

    private static Socket Bind(SyslogAddress address)
    {
        var udp = address.Over == SyslogOver.Udp;
        var socket = new Socket(
            address.At.AddressFamily,
            udp ? SocketType.Dgram : SocketType.Stream,
            udp ? ProtocolType.Udp : ProtocolType.Tcp
        );
        try
        {
            if (udp)
                socket.ReceiveBufferSize = 4 * 1024 * 1024;
            else
                socket.SetSocketOption(SocketOptionLevel.Socket, SocketOptionName.ReuseAddress, true);
            socket.Bind(address.At);
            if (!udp)
                socket.Listen();
            return socket;
        }
        catch
        {
            socket.Dispose();
            throw;
        }
    }

    private async Task ReceiveAsync(Socket socket, CancellationToken cancel)
    {
        using (socket)
        {
            var buffer = new byte[SyslogMessage.MostBytes];
            var from = new SocketAddress(socket.AddressFamily);
            while (!cancel.IsCancellationRequested)
            {
                try
                {
                    var length = await socket.ReceiveFromAsync(buffer, SocketFlags.None, from, cancel);
                    var sender = ((IPEndPoint)new IPEndPoint(IPAddress.Any, 0).Create(from)).Address;
                    if (!Allowed(sender))
                        continue;
                    Take([buffer[..length]], sender);
                }
                catch (SocketException e) when (e.SocketErrorCode is SocketError.ConnectionReset or SocketError.MessageSize)
                {
                    // Of one datagram, not of the socket.
                }
            }
        }
    }

    private async Task AcceptAsync(Socket socket, bool encrypts, CancellationToken cancel)
    {
        using (socket)
        {
            var open = new List<Task>();
            while (!cancel.IsCancellationRequested)
            {
                var connection = await socket.AcceptAsync(cancel);
                open.RemoveAll(o => o.IsCompleted);
                var sender = ((IPEndPoint)connection.RemoteEndPoint!).Address;
                if (!Allowed(sender) || !Enter(sender))
                    connection.Dispose();
                else
                    open.Add(ServeAsync(connection, sender, encrypts, cancel));
            }
            await Task.WhenAll(open);
        }
    }

    private async Task ServeAsync(Socket connection, IPAddress sender, bool encrypts, CancellationToken cancel)
    {
        try
        {
            await using var raw = new NetworkStream(connection, ownsSocket: true);
            if (!encrypts)
            {
                await ReadAsync(raw, sender, cancel);
                return;
            }
            await using var secure = new SslStream(raw);
            using var patience = CancellationTokenSource.CreateLinkedTokenSource(cancel);
            patience.CancelAfter(Handshake);
            using var certificate = X509Certificate2.CreateFromPemFile(settings.Value.CertificateFile, settings.Value.CertificateKeyFile);
            await secure.AuthenticateAsServerAsync(new SslServerAuthenticationOptions { ServerCertificate = certificate }, patience.Token);
            await ReadAsync(secure, sender, cancel);
        }
        catch (Exception e)
            when (e
                    is IOException
                        or SocketException
                        or OperationCanceledException
                        or System.Security.Authentication.AuthenticationException
                        or System.Security.Cryptography.CryptographicException
            )
        {
            log.LogDebug("A syslog connection of {Sender} ended: {Problem}", sender, e.Message);
        }
        finally
        {
            lock (gate)
                if (--connections[sender] == 0)
                    connections.Remove(sender);
        }
    }

    private async Task ReadAsync(Stream stream, IPAddress sender, CancellationToken cancel)
    {
        var (frames, buffer) = (new SyslogFrames(), new byte[64 * 1024]);
        using var idle = CancellationTokenSource.CreateLinkedTokenSource(cancel);
        while (true)
        {
            idle.CancelAfter(Idle);
            var read = await stream.ReadAsync(buffer, idle.Token);
            if (read == 0)
                break;
            if (frames.Feed(buffer.AsSpan(0, read)) is not { } messages)
                return;
            // One that sends more than it may is read no faster.
            if (messages.Count > 0 && !Take(messages, sender))
                await Task.Delay(200, cancel);
        }
        if (frames.Finish() is { } last)
            Take([last], sender);
    }

    private bool Allowed(IPAddress sender)
    {
        if (senders.Allows(sender))
            return true;
        Strangers++;
        Tell(
            $"syslog of {sender}, which is not among the allowed senders, is dropped ({Strangers} so far); name its network under "
                + $"IronKeep:SyslogFrom, or stop it there"
        );
        return false;
    }

    private bool Enter(IPAddress sender)
    {
        lock (gate)
        {
            var of = connections.GetValueOrDefault(sender);
            if (of >= MostOfSender || connections.Values.Sum() >= MostConnections)
                return false;
            connections[sender] = of + 1;
            return true;
        }
    }

    /// <summary>Keeps messages as far as their sender's allowance goes; false when some were dropped.</summary>
    private bool Take(List<byte[]> messages, IPAddress sender)
    {
        var allowed = Allowance(sender, messages.Count);
        if (allowed > 0)
        {
            try
            {
                spool.Take([.. messages.Take(allowed).Select(m => SyslogMessage.Read(m)).OfType<SyslogMessage>()], sender.ToString());
            }
            catch (Exception e) when (e is IOException or UnauthorizedAccessException)
            {
                Flooded += allowed;
                Tell($"syslog cannot be kept: {e.Message}; make room in the service's folder");
            }
        }
        if (allowed == messages.Count)
            return true;
        Flooded += messages.Count - allowed;
        Tell(
            $"{sender} sends more than {LinesASecond} lines of syslog a second; the rest is dropped ({Flooded} lines so far): find out "
                + $"what floods, or send less there"
        );
        return false;
    }

    private int Allowance(IPAddress sender, int wanted)
    {
        lock (gate)
        {
            if (allowances.Count > MostSenders)
                allowances.Clear();
            var now = clock.GetTimestamp();
            var (left, at) = allowances.GetValueOrDefault(sender, (LinesAtOnce, now));
            left = Math.Min(LinesAtOnce, left + clock.GetElapsedTime(at, now).TotalSeconds * LinesASecond);
            var taken = (int)Math.Min(wanted, left);
            allowances[sender] = (left - taken, now);
            return taken;
        }
    }

    /// <summary>Once an hour: a flood must not become one of our own log.</summary>
    private void Tell(string what)
    {
        var now = clock.GetTimestamp();
        var before = Interlocked.Read(ref toldAt);
        if (before != 0 && clock.GetElapsedTime(before, now) < TellsEvery)
            return;
        if (Interlocked.CompareExchange(ref toldAt, now, before) == before)
            log.LogWarning("{What}", what);
    }
}
