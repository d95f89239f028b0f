using System.Collections.Concurrent;
using System.Net;
using System.Net.Sockets;

namespace IronKeep.Bench;

/// <summary>A line from a port of this machine to another that breaks now and then, all connections at once.</summary>
internal sealed class BreakingRelay : IDisposable
{
    private readonly TcpListener listener;
    private readonly int to;
    private readonly ConcurrentDictionary<TcpClient, TcpClient> pairs = new();
    private readonly CancellationTokenSource ending = new();

    public BreakingRelay(int from, int to)
    {
        this.to = to;
        listener = new TcpListener(IPAddress.Loopback, from);
        listener.Start();
        _ = AcceptAsync();
    }

    public int Breaks { get; private set; }

    /// <summary>Everything that is on its way is lost.</summary>
    public void Break()
    {
        Breaks++;
        foreach (var (near, far) in pairs)
            (_, _) = (Drop(near), Drop(far));
    }

    private static bool Drop(TcpClient client)
    {
        try
        {
            client.LingerState = new LingerOption(true, 0);
        }
        catch (Exception e) when (e is NullReferenceException or SocketException or ObjectDisposedException)
        {
            // It was closed at this very moment, which this class of the library does not say well.
        }
        client.Dispose();
        return true;
    }

    private async Task AcceptAsync()
    {
        while (!ending.IsCancellationRequested)
        {
            var near = await listener.AcceptTcpClientAsync(ending.Token);
            _ = CarryAsync(near);
        }
    }

    private async Task CarryAsync(TcpClient near)
    {
        var far = new TcpClient();
        pairs[near] = far;
        try
        {
            await far.ConnectAsync(IPAddress.Loopback, to);
            var (a, b) = (near.GetStream(), far.GetStream());
            await Task.WhenAny(a.CopyToAsync(b), b.CopyToAsync(a));
        }
        catch (Exception e) when (e is IOException or SocketException or ObjectDisposedException or InvalidOperationException)
        {
            // The line broke, or nobody is there.
        }
        finally
        {
            pairs.TryRemove(near, out _);
            near.Dispose();
            far.Dispose();
        }
    }

    public void Dispose()
    {
        ending.Cancel();
        listener.Stop();
        Break();
        ending.Dispose();
    }
}
