using System.Diagnostics;
using System.Net;
using System.Net.Sockets;
using IronKeep.Stores.Places;

namespace IronKeep.Runs.Tests;

/// <summary>A real OpenSSH server on loopback, into which the user of the tests may sign in with a key.</summary>
internal sealed class SshServer : IDisposable
{
    private readonly Process server;

    public SshServer(string folder)
    {
        Folder = Directory.CreateDirectory(folder).FullName;
        using (var free = new TcpListener(IPAddress.Loopback, 0))
        {
            free.Start();
            Port = ((IPEndPoint)free.LocalEndpoint).Port;
        }
        File.WriteAllText(
            Folder + "/config",
            $"""
            Port {Port}
            ListenAddress 127.0.0.1
            HostKey {Folder}/host
            AuthorizedKeysFile {Folder}/login.pub
            UsePAM no
            StrictModes no
            PidFile none
            MaxStartups 100
            PermitRootLogin yes
            Subsystem sftp internal-sftp
            """
        );
        Listing.Shell("mkdir -p -m 755 /run/sshd; ssh-keygen -q -t ed25519 -N '' -f host; ssh-keygen -q -t ed25519 -N '' -f login", Folder);
        Fingerprint = Listing.Shell("ssh-keygen -lf host.pub", Folder).Split(' ')[1];
        server = Process.Start(new ProcessStartInfo("/usr/sbin/sshd", ["-D", "-E", Folder + "/log", "-f", Folder + "/config"]))!;
        while (!File.Exists(Folder + "/log") || !File.ReadAllText(Folder + "/log").Contains("listening", StringComparison.Ordinal))
            Assert.False(server.WaitForExit(20), "sshd did not start");
    }

    public string Folder { get; }
    public int Port { get; }
    public string Fingerprint { get; }
    public int Id => server.Id;
    public string LoginKey => Folder + "/login";

    public SftpAddress At(string folder, string? hostKey = null) =>
        new(Environment.UserName, "127.0.0.1", Port, folder, hostKey ?? Fingerprint, LoginKey);

    /// <summary>Breaks every connection; the server takes new ones.</summary>
    public void Drop() => Listing.Shell($"pkill -P {Id}", "/");

    /// <summary>Nobody may sign in any more.</summary>
    public void ForgetLogins() => File.WriteAllText(Folder + "/login.pub", "");

    public void Stop()
    {
        server.Kill(entireProcessTree: true);
        server.WaitForExit();
    }

    public void Dispose()
    {
        server.Kill(entireProcessTree: true);
        server.Dispose();
    }
}
