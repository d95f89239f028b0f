using System.Net.Sockets;
using System.Text;
using IronKeep.Service.Health;

namespace IronKeep.Service.Hosting;

/// <summary>
/// Tells a service manager how the service is, by the protocol of sd_notify(3): that it is ready, that it stops, and, as often as
/// the manager asks, that it is well. It is well while its loops move, so that a service that hangs is
/// started anew; one whose catalogue is away only says so. Does nothing where nobody asked (NOTIFY_SOCKET).
/// </summary>
internal sealed class SystemdNotice(SelfCheck check, IHostApplicationLifetime life, ILogger<SystemdNotice> log) : BackgroundService
{
    private static readonly string? Address = Environment.GetEnvironmentVariable("NOTIFY_SOCKET") is { Length: > 1 } socket ? socket : null;

    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        if (Address is null)
            return;
        using var registered = life.ApplicationStarted.Register(() => Send("READY=1"));
        life.ApplicationStopping.Register(() => Send("STOPPING=1"));
        if (Every() is not { } pause)
            return;
        using var timer = new PeriodicTimer(pause);
        while (await timer.WaitForNextTickAsync(stoppingToken))
            if (check.Moves)
                Send("WATCHDOG=1");
            else
                log.LogError("A loop of the service hangs, so the service manager is not told that it is well, and will start it anew");
    }

    /// <summary>Half of what the manager waits, or null where it does not wait for this process.</summary>
    private static TimeSpan? Every() =>
        long.TryParse(Environment.GetEnvironmentVariable("WATCHDOG_USEC"), out var microseconds)
        && microseconds > 0
        && (Environment.GetEnvironmentVariable("WATCHDOG_PID") is not { Length: > 0 } pid || pid == $"{Environment.ProcessId}")
            ? TimeSpan.FromMicroseconds(Math.Max(microseconds / 2, 100_000))
            : null;

    private void Send(string state)
    {
        try
        {
            using var socket = new Socket(AddressFamily.Unix, SocketType.Dgram, ProtocolType.Unspecified);
            // An address in the abstract namespace is written with an @ for its first byte.
            socket.SendTo(Encoding.UTF8.GetBytes(state), new UnixDomainSocketEndPoint(Address![0] == '@' ? '\0' + Address[1..] : Address));
        }
        catch (SocketException e)
        {
            log.LogWarning("The service manager could not be told {State}: {Problem}", state, e.Message);
        }
    }
}
