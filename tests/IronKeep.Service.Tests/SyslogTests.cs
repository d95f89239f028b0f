using System.Diagnostics;
using System.Net;
using System.Net.Security;
using System.Net.Sockets;
using IronKeep.Contracts;
using IronKeep.Core.Watching;
using IronKeep.Service.Hearing;
using Microsoft.Extensions.DependencyInjection;

namespace IronKeep.Service.Tests;

/// <summary>Syslog, sent by the real logger of util-linux in each of its forms, up to the run.</summary>
public sealed class SyslogTests
{
    private static async Task<Bench> BeginAsync(params string[] more)
    {
        var bench = await Bench.StartAsync();
        await bench.ApplyAsync(
            """
            charter: 1
            log-rules:
              tide: { begins: "^copy started", ends: "^copy ended", ok: all sent, failed: cannot send, figures: "{items} readings" }
            jobs:
              tide: { watched: yes, heard-by: syslog, syslog: tide-copy@avocet, log-rules: tide, when: "daily at 10:00, 12:00, 14:00, 16:00" }
              other: { watched: yes, heard-by: syslog, syslog: [tide-copy], syslog-text: "for others *", log-rules: tide, when: "daily at 10:00" }
            """
        );
        bench.More = ["--IronKeep:SyslogListen=udp://127.0.0.1:0,tcp://127.0.0.1:0", .. more];
        await bench.RestartAsync();
        await UntilAsync(() => Listening(bench).Listens.Count >= 2 ? "listens" : null);
        return bench;
    }

    private static SyslogListening Listening(Bench bench) => bench.Services.GetRequiredService<SyslogListening>();

    private static async Task<T> UntilAsync<T>(Func<T?> ask)
        where T : class
    {
        for (var i = 0; ; i++)
        {
            if (ask() is { } answer)
                return answer;
            Assert.True(i < 200, "it did not come to be within 20 s");
            await Task.Delay(100);
        }
    }

    private static int Port(Bench bench, SyslogOver over) => Listening(bench).Listens.First(l => l.Over == over).At.Port;

    private static string Spooled(Bench bench, string job) =>
        string.Concat(
            Directory
                .GetFiles(bench.Services.GetRequiredService<SyslogSpool>().PathOf(job).Replace("/*.log", "", StringComparison.Ordinal))
                .Order()
                .Select(File.ReadAllText)
        );

    [Theory]
    [InlineData("-d --rfc5424 --hostname avocet", SyslogOver.Udp, true)]
    [InlineData("-T --rfc5424 --octet-count", SyslogOver.Tcp, false)]
    [InlineData("-T --rfc5424", SyslogOver.Tcp, false)]
    [InlineData("-T --rfc3164", SyslogOver.Tcp, false)]
    [InlineData("-d --rfc3164", SyslogOver.Udp, false)]
    public async Task What_logger_sends_is_heard_in_each_of_its_forms(string form, SyslogOver over, bool named)
    {
        await using var bench = await BeginAsync();
        // Not every logger can be told what its host is called; then the job that names none hears it.
        named &= LoggerKnows("--hostname");
        if (!named)
            form = form.Replace(" --hostname avocet", "", StringComparison.Ordinal);
        var job = named ? "tide" : "other";
        foreach (var line in named ? ["copy started", "700 readings", "all sent"] : new[] { "for others one", "for others two: Ärger" })
        {
            using var logger = Process.Start(
                "logger",
                [.. form.Split(' '), "-n", "127.0.0.1", "-P", $"{Port(bench, over)}", "-t", "tide-copy", "-i", line]
            );
            await logger.WaitForExitAsync();
            Assert.Equal(0, logger.ExitCode);
        }
        await UntilAsync(() => Spooled(bench, job).Split('\n').Length > 2 ? "there" : null);
        Assert.Equal(named ? "copy started\n700 readings\nall sent\n" : "for others one\nfor others two: Ärger\n", Spooled(bench, job));
    }

    private static bool LoggerKnows(string option)
    {
        using var help = Process.Start(new ProcessStartInfo("logger", "--help") { RedirectStandardOutput = true })!;
        return help.StandardOutput.ReadToEnd().Contains(option, StringComparison.Ordinal);
    }

    private static async Task SendAsync(Bench bench, params string[] lines)
    {
        using var tcp = new TcpClient();
        await tcp.ConnectAsync(IPAddress.Loopback, Port(bench, SyslogOver.Tcp));
        await tcp.GetStream().WriteAsync(System.Text.Encoding.UTF8.GetBytes(string.Concat(lines.Select(l => $"<13>1 - {l}\n"))));
    }

    [Fact]
    public async Task Lines_make_a_run_that_goes_on_over_a_restart_and_a_stranger_to_all_jobs_leaves_nothing()
    {
        await using var bench = await BeginAsync();
        await bench.TickAsync("2026-11-23T10:00:30Z");
        await SendAsync(
            bench,
            "avocet tide-copy 1 - - copy started",
            "avocet tide-copy 1 - - 700 readings",
            "knot tide-copy 1 - - cannot send",
            "avocet sshd 1 - - all sent",
            "../../knot tide-copy 1 - - for others"
        );
        await UntilAsync(() => Spooled(bench, "tide").Contains("700", StringComparison.Ordinal) ? "there" : null);
        await bench.Services.GetRequiredService<LogWatching>().LookAsync(default);
        Assert.Equal(RunState.Running, (await bench.GetAsync<JobAnswer>("jobs/tide")).LastRun!.State);
        await bench.RestartAsync();
        await UntilAsync(() => Listening(bench).Listens.Count >= 2 ? "listens" : null);
        await SendAsync(bench, "AVOCET.saltmere.example tide-copy 1 - - cannot send 3", "avocet tide-copy 1 - - copy ended");
        await UntilAsync(() => Spooled(bench, "tide").Contains("ended", StringComparison.Ordinal) ? "there" : null);
        await bench.Services.GetRequiredService<LogWatching>().LookAsync(default);
        await bench.IdleAsync();
        var runs = (await bench.GetAsync<Page<RunAnswer>>("runs?job=tide")).Items;
        // With its domain or without, it is one host; what another host says is not of its run.
        var run = runs.Single(r => r.Figures.Items == 700);
        Assert.Equal((Outcome.Failed, "cannot send 3"), (run.Outcome!.Value, run.Sentence));
        Assert.Equal(EvidenceSource.Syslog, run.Evidence!.Heard[0].Source);
        Assert.All(Directory.GetDirectories(bench.Root + "/service/syslog"), d =>
            Assert.Contains(Path.GetFileName(d), new[] { "tide", "other" })
        );
        Assert.All(Directory.GetFiles(bench.Root + "/service/syslog", "*", SearchOption.AllDirectories), f =>
            Assert.Matches("^[a-z0-9-]+\\.log$", Path.GetFileName(f))
        );
    }

    [Fact]
    public async Task A_flood_is_cut_and_counted_and_a_stranger_is_not_heard()
    {
        await using var bench = await BeginAsync();
        using (var tcp = new TcpClient())
        {
            await tcp.ConnectAsync(IPAddress.Loopback, Port(bench, SyslogOver.Tcp));
            var message = System.Text.Encoding.UTF8.GetBytes("<13>1 - avocet tide-copy 1 - - " + new string('x', 200) + "\n");
            // Whoever sends too much is read no faster, so what is left of it is not waited for.
            var sending = tcp.GetStream().WriteAsync(Enumerable.Repeat(message, 60_000).SelectMany(m => m).ToArray()).AsTask();
            await UntilAsync(() => Listening(bench).Flooded > 0 ? "cut" : null);
            tcp.Close();
            await Assert.ThrowsAnyAsync<Exception>(() => sending);
        }
        Assert.InRange(Spooled(bench, "tide").Length, 1, 60_000 * 201 - 1);
        var finding = (await bench.GetAsync<SelfCheckAnswer>("service")).Findings.Single(f => f.What == "syslog");
        Assert.Equal(FindingState.Warned, finding.State);
        Assert.Contains("lines of senders that sent too many", finding.Sentence);

        bench.More = ["--IronKeep:SyslogListen=udp://127.0.0.1:0,tcp://127.0.0.1:0", "--IronKeep:SyslogFrom=192.0.2.0/24"];
        await bench.RestartAsync();
        await UntilAsync(() => Listening(bench).Listens.Count >= 2 ? "listens" : null);
        var before = Spooled(bench, "tide").Length;
        await SendAsync(bench, "avocet tide-copy 1 - - copy started");
        await UntilAsync(() => Listening(bench).Strangers > 0 ? "dropped" : null);
        Assert.Equal(before, Spooled(bench, "tide").Length);
        Assert.Contains(
            "senders that are not allowed",
            (await bench.GetAsync<SelfCheckAnswer>("service")).Findings.Single(f => f.What == "syslog").Sentence
        );
        bench.More = [];
        await bench.RestartAsync();
        Assert.Contains(
            "nobody listens for it",
            (await bench.GetAsync<SelfCheckAnswer>("service")).Findings.Single(f => f.What == "syslog").Sentence
        );
    }

    [Fact]
    public async Task Over_TLS_what_is_sent_is_heard_and_what_is_not_encrypted_is_not()
    {
        var folder = Directory.CreateTempSubdirectory("syslog-").FullName;
        using (
            var openssl = Process.Start(
                new ProcessStartInfo(
                    "openssl",
                    $"req -x509 -newkey ec -pkeyopt ec_paramgen_curve:prime256v1 -nodes -keyout {folder}/key.pem -out {folder}/cert.pem "
                        + $"-days 2 -subj /CN=heron"
                )
                {
                    RedirectStandardError = true,
                }
            )!
        )
            await openssl.WaitForExitAsync();
        await using var bench = await Bench.StartAsync();
        await bench.ApplyAsync(
            """
            charter: 1
            log-rules: { tide: { ok: all sent } }
            jobs:
              tide: { watched: yes, heard-by: syslog, syslog: tide-copy, log-rules: tide, when: "daily at 10:00" }
            """
        );
        bench.More =
        [
            "--IronKeep:SyslogListen=tls://127.0.0.1:0",
            "--IronKeep:Listen=https://127.0.0.1:0",
            $"--IronKeep:CertificateFile={folder}/cert.pem",
            $"--IronKeep:CertificateKeyFile={folder}/key.pem",
        ];
        bench.Unchecked = true;
        await bench.RestartAsync();
        await UntilAsync(() => Listening(bench).Listens.Count > 0 ? "listens" : null);
        using (var plain = new TcpClient())
        {
            await plain.ConnectAsync(IPAddress.Loopback, Port(bench, SyslogOver.Tls));
            await plain.GetStream().WriteAsync("<13>tide-copy: in the clear\n"u8.ToArray());
        }
        using var tcp = new TcpClient();
        await tcp.ConnectAsync(IPAddress.Loopback, Port(bench, SyslogOver.Tls));
        await using var tls = new SslStream(tcp.GetStream(), false, (_, certificate, _, _) => certificate?.Subject == "CN=heron");
        await tls.AuthenticateAsClientAsync("heron");
        await tls.WriteAsync("<13>tide-copy: all sent\n"u8.ToArray());
        await tls.FlushAsync();
        await UntilAsync(() => Spooled(bench, "tide").Length > 0 ? "there" : null);
        Assert.Equal("all sent\n", Spooled(bench, "tide"));
        Directory.Delete(folder, recursive: true);
    }
}
