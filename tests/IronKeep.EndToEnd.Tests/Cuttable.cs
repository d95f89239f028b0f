using System.Net;
using System.Net.Sockets;

namespace IronKeep.EndToEnd.Tests;

/// <summary>
/// A way from one service to its database that can be cut: then what is under way stands still and breaks, and nothing new gets through.
/// </summary>
internal sealed class Cuttable : IDisposable
{
    private readonly TcpListener listener = new(IPAddress.Loopback, 0);
    private readonly int target;
    private readonly Lock gate = new();
    private readonly List<TcpClient> open = [];
    private bool cut;
    private volatile TaskCompletionSource speaks = Spoken();

    /// <summary>Nothing gets through and nothing breaks: what is sent waits, as over a line that swallows it.</summary>
    public bool IsSilent
    {
        get => !speaks.Task.IsCompleted;
        set
        {
            if (value)
                speaks = new TaskCompletionSource(TaskCreationOptions.RunContinuationsAsynchronously);
            else
                speaks.TrySetResult();
        }
    }

    private static TaskCompletionSource Spoken()
    {
        var spoken = new TaskCompletionSource();
        spoken.SetResult();
        return spoken;
    }

    private async Task CopyAsync(NetworkStream from, NetworkStream to)
    {
        var buffer = new byte[64 * 1024];
        while (await from.ReadAsync(buffer) is > 0 and var read)
        {
            await speaks.Task;
            await to.WriteAsync(buffer.AsMemory(0, read));
        }
    }

    public Cuttable(int target)
    {
        this.target = target;
        listener.Start();
        Port = ((IPEndPoint)listener.LocalEndpoint).Port;
        _ = AcceptAsync();
    }

    public int Port { get; }

    public bool IsCut
    {
        get => cut;
        set
        {
            lock (gate)
            {
                cut = value;
                if (!cut)
                    return;
                foreach (var client in open)
                    client.Dispose();
                open.Clear();
            }
        }
    }

    private async Task AcceptAsync()
    {
        while (true)
        {
            try
            {
                _ = CarryAsync(await listener.AcceptTcpClientAsync());
            }
            catch (Exception e) when (e is SocketException or ObjectDisposedException)
            {
                return;
            }
        }
    }

    private async Task CarryAsync(TcpClient from)
    {
        try
        {
            using var to = new TcpClient();
            if (cut)
            {
                from.Dispose();
                return;
            }
            await to.ConnectAsync(IPAddress.Loopback, target);
            from.NoDelay = to.NoDelay = true;
            lock (gate)
            {
                open.Add(from);
                open.Add(to);
            }
            await Task.WhenAny(CopyAsync(from.GetStream(), to.GetStream()), CopyAsync(to.GetStream(), from.GetStream()));
        }
        catch (Exception e) when (e is SocketException or IOException or ObjectDisposedException or InvalidOperationException)
        {
            // It was cut.
        }
        finally
        {
            from.Dispose();
        }
    }

    public void Dispose() => listener.Dispose();
}
