using System.Diagnostics;
using System.Net;
using System.Net.Sockets;
using MimeKit;

namespace IronKeep.Service.Tests;

/// <summary>The real server (aiosmtpd), which says what stands in files beside its inbox (rcpt, data, hang; who: to whom).</summary>
internal sealed class SmtpServer : IDisposable
{
    private const string Handler = """
        import asyncio, os
        from aiosmtpd.handlers import Mailbox

        class Moody(Mailbox):
            def say(self, what):
                path = os.path.join(os.path.dirname(self.mail_dir), "says-" + what)
                return open(path).read() if os.path.exists(path) else None

            @classmethod
            def from_cli(cls, parser, *args):
                return cls(args[0])

            async def handle_RCPT(self, server, session, envelope, address, options):
                who, says = self.say("who"), self.say("rcpt")
                if says and who in (None, address):
                    return says
                envelope.rcpt_tos.append(address)
                return "250 OK"

            async def handle_DATA(self, server, session, envelope):
                if self.say("hang") is not None:
                    await asyncio.sleep(3600)
                return self.say("data") or await super().handle_DATA(server, session, envelope)

        """;
    private readonly Process process;
    private readonly string folder;

    private SmtpServer(Process process, string folder, int port) => (this.process, this.folder, Port) = (process, folder, port);

    public int Port { get; }

    public List<MimeMessage> Inbox =>
        Directory.Exists(folder + "/inbox/new")
            ? [.. Directory.EnumerateFiles(folder + "/inbox/new").Order().Select(f => MimeMessage.Load(f))]
            : [];

    public void Say(string when, string? answer)
    {
        if (answer is null)
            File.Delete($"{folder}/says-{when}");
        else
            File.WriteAllText($"{folder}/says-{when}", answer);
    }

    public static async Task<SmtpServer> StartAsync(string inbox, int? at = null)
    {
        var folder = Path.GetDirectoryName(inbox)!;
        await File.WriteAllTextAsync(folder + "/moody.py", Handler);
        var port = at ?? Random.Shared.Next(20_000, 30_000);
        var start = new ProcessStartInfo(
            "/usr/bin/python3",
            ["-m", "aiosmtpd", "-n", "-l", $"127.0.0.1:{port}", "-c", "moody.Moody", inbox]
        )
        {
            WorkingDirectory = folder,
            RedirectStandardError = true,
        };
        start.Environment["PYTHONPATH"] = folder;
        var process = Process.Start(start)!;
        for (var i = 0; i < 3000 && !process.HasExited; i++)
        {
            using var client = new TcpClient();
            try
            {
                await client.ConnectAsync(IPAddress.Loopback, port);
                return new SmtpServer(process, folder, port);
            }
            catch (SocketException)
            {
                await Task.Delay(20);
            }
        }
        throw new InvalidOperationException("the SMTP server did not start");
    }

    public void Dispose()
    {
        process.Kill();
        process.Dispose();
    }
}
