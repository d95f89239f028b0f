using System.Collections.Concurrent;
using System.Net.Sockets;
using System.Text;
using Renci.SshNet;
using Renci.SshNet.Common;

namespace IronKeep.Stores.Places;

/// <summary>
/// Where a server is and how it is known. <paramref name="HostKey"/> is the fingerprint of its key as OpenSSH prints it
/// ("SHA256:…"): a server with another key is refused. <paramref name="LoginKeyFile"/> holds the private key to sign in with.
/// </summary>
public sealed record SftpAddress(string User, string Host, int Port, string Folder, string HostKey, string LoginKeyFile)
{
    public override string ToString() => $"sftp://{User}@{Host}{(Port == 22 ? "" : $":{Port}")}{Folder}";
}

/// <summary>
/// Connections to an SSH server, made when they are needed and kept for the next. What a dropped one interrupts is tried again on another.
/// Failures are <see cref="PlaceException"/>; what the server itself says of a call goes to whoever called.
/// </summary>
internal sealed class SftpLine(SftpAddress address, TimeSpan? patience = null, Encoding? names = null) : IDisposable
{
    private static readonly TimeSpan Pause = TimeSpan.FromMilliseconds(200),
        AnswersWithin = TimeSpan.FromSeconds(20);
    private readonly TimeSpan patience = patience ?? TimeSpan.FromSeconds(30);
    private readonly ConcurrentBag<SftpClient> idle = [];
    private volatile bool disposed;

    public string Name => address.ToString();

    /// <summary>
    /// Does something that can be done twice, on a new connection when the old one drops, for as long as there is patience. What fails
    /// otherwise goes through <paramref name="translate"/>.
    /// </summary>
    public T Do<T>(Func<SftpClient, T> action, Func<Exception, Exception> translate)
    {
        var until = DateTime.UtcNow + patience;
        while (true)
        {
            SftpClient? client = null;
            try
            {
                client = Take();
                var at = client;
                var result = PlaceWaits.Wait(() => action(at), at.Dispose);
                GiveBack(client);
                return result;
            }
            catch (TimeoutException e)
            {
                throw new PlaceException(PlaceFault.Unreachable, $"{Name} does not answer: {e.Message}", e);
            }
            catch (Exception e) when (Dropped(e) && DateTime.UtcNow < until && !PlaceWaits.Token.IsCancellationRequested)
            {
                client?.Dispose();
                PlaceWaits.Token.WaitHandle.WaitOne(Pause);
            }
            catch (Exception e)
                when (e is SshException or SocketException or ObjectDisposedException or IOException and not PlaceException || Dropped(e))
            {
                client?.Dispose();
                throw Dropped(e)
                    ? new PlaceException(
                        PlaceFault.Unreachable,
                        $"{Name} cannot be reached: {e.Message}; start the server, or look at the network",
                        e
                    )
                    : translate(e);
            }
            catch (PlaceException)
            {
                if (client is not null)
                    GiveBack(client);
                throw;
            }
        }
    }

    /// <summary>A connection, to be given back or disposed of.</summary>
    public SftpClient Take() => idle.TryTake(out var client) ? client : Connect();

    public void GiveBack(SftpClient client)
    {
        if (disposed)
            client.Dispose();
        else
            idle.Add(client);
    }

    public void Dispose()
    {
        disposed = true;
        while (idle.TryTake(out var client))
            client.Dispose();
    }

    private SftpClient Connect()
    {
        PrivateKeyFile key;
        try
        {
            key = new PrivateKeyFile(address.LoginKeyFile);
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException or SshException)
        {
            throw new PlaceException(
                PlaceFault.AccessRefused,
                $"{Name}: the key to sign in with cannot be read from {address.LoginKeyFile}: {e.Message}",
                e
            );
        }
        string? other = null;
        var client = new SftpClient(
            new ConnectionInfo(address.Host, address.Port, address.User, new PrivateKeyAuthenticationMethod(address.User, key))
            {
                Timeout = AnswersWithin,
                Encoding = names ?? Encoding.UTF8,
            }
        )
        {
            // Without it a server that stands still is waited for without an end.
            OperationTimeout = AnswersWithin,
        };
        client.HostKeyReceived += (_, e) =>
        {
            var shown = "SHA256:" + e.FingerPrintSHA256;
            e.CanTrust = shown == address.HostKey.TrimEnd('=');
            if (!e.CanTrust)
                other = shown;
        };
        try
        {
            return PlaceWaits.Wait(
                () =>
                {
                    client.Connect();
                    return client;
                },
                client.Dispose
            );
        }
        catch (TimeoutException)
        {
            throw;
        }
        catch (Exception e)
        {
            client.Dispose();
            if (other is not null)
                throw new PlaceException(
                    PlaceFault.AccessRefused,
                    $"{Name}: the server has the key {other}, not {address.HostKey} as the charter says. Somebody may stand between, or "
                        + $"the server was set up anew: ask whoever runs it, and change 'host-key' only then",
                    e
                );
            if (e is SshAuthenticationException)
                throw new PlaceException(
                    PlaceFault.AccessRefused,
                    $"{Name}: the server does not let {address.User} in with the key in {address.LoginKeyFile}; put its public half into "
                        + $"the server's authorized_keys",
                    e
                );
            throw;
        }
    }

    /// <summary>Whether the connection is at fault, and another may do.</summary>
    public static bool Dropped(Exception e) =>
        e is not PlaceException
        && (
            e is SshConnectionException or SocketException or SshOperationTimeoutException or ObjectDisposedException
            || e.InnerException is { } inner && Dropped(inner)
        );
}
