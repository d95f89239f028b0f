using System.Diagnostics;
using System.Net;
using System.Net.Sockets;
using System.Security.Cryptography;
using System.Text;
using System.Text.Json;
using System.Text.RegularExpressions;
using IronKeep.Catalogue;
using IronKeep.Core.Charters;
using IronKeep.Following.Syslog;
using IronKeep.Service.Basics;
using IronKeep.Service.Telling;
using Microsoft.AspNetCore.Builder;
using Microsoft.AspNetCore.Hosting;
using Microsoft.AspNetCore.Http;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Logging;
using Microsoft.Extensions.Options;
using NodaTime;

namespace IronKeep.Service.Tests;

/// <summary>Webhooks with a signature, syslog, and commands of the site's own: what they send, and what bad receivers do to them.</summary>
public sealed partial class WaysToTellTests : IDisposable
{
    private readonly string folder = Directory.CreateTempSubdirectory("ways-").FullName;

    public void Dispose() => Directory.Delete(folder, true);

    private static Message Telling(
        string type = "alert-opened",
        string severity = "danger",
        string body = "It is away\n\nWhat to do: x\n"
    ) =>
        new()
        {
            Id = 7,
            Channel = "way",
            Subject = "Iron Keep heron: FAILED store cellar",
            Body = body,
            Type = type,
            Data = $$"""{"id":3,"severity":"{{severity}}","openedAt":"2026-11-23T09:00:00+00:00"}""",
            MadeAt = Instant.FromUtc(2026, 11, 23, 9, 0),
            NextAt = Instant.FromUtc(2026, 11, 23, 9, 0),
        };

    private IOptions<ServiceSettings> Settings => Options.Create(new ServiceSettings { Machine = "heron", CommandsFolder = folder });

    /// <summary>An address with an answer of its own.</summary>
    private static async Task<(WebApplication App, string Url)> HookAsync(Func<HttpContext, Task> answer)
    {
        var builder = WebApplication.CreateSlimBuilder();
        builder.WebHost.UseUrls("http://127.0.0.1:0");
        builder.Logging.ClearProviders();
        var app = builder.Build();
        app.Run(c => answer(c));
        await app.StartAsync();
        return (app, app.Urls.First() + "/keep");
    }

    private WebhookCarrier Webhook(TimeSpan? patience = null, DateTimeOffset? now = null) =>
        new(
            new HttpClient(new SocketsHttpHandler { AllowAutoRedirect = false }) { Timeout = patience ?? TimeSpan.FromSeconds(20) },
            new StandingClock(now ?? new DateTimeOffset(2026, 11, 23, 9, 0, 5, TimeSpan.Zero)),
            Settings
        );

    /// <summary>
    /// The receiver's side by RFC 9421 alone: what is signed is put together from the names that the request lists, in their order.
    /// </summary>
    private static bool IsSigned(HttpRequest request, string body, string secret)
    {
        var input = Input().Match(request.Headers["Signature-Input"].ToString());
        var text = new StringBuilder();
        foreach (Match name in Quoted().Matches(input.Groups[2].Value))
        {
            var value = name.Groups[1].Value == "@method" ? request.Method : request.Headers[name.Groups[1].Value].ToString();
            text.Append($"\"{name.Groups[1].Value}\": {value}\n");
        }
        text.Append($"\"@signature-params\": {input.Groups[1].Value}");
        var wanted = Convert.ToBase64String(HMACSHA256.HashData(Encoding.UTF8.GetBytes(secret), Encoding.UTF8.GetBytes(text.ToString())));
        var digest = Convert.ToBase64String(SHA256.HashData(Encoding.UTF8.GetBytes(body)));
        return request.Headers["Signature"].ToString() == $"ironkeep=:{wanted}:"
            && request.Headers["Content-Digest"].ToString() == $"sha-256=:{digest}:";
    }

    [GeneratedRegex("^ironkeep=((\\([^)]*\\));created=\\d+;keyid=\"ironkeep\";alg=\"hmac-sha256\")$")]
    private static partial Regex Input();

    [GeneratedRegex("\"([^\"]+)\"")]
    private static partial Regex Quoted();

    [Fact]
    public async Task A_webhook_is_signed_over_its_body_and_time_with_the_secret_that_its_receiver_shares()
    {
        var secret = folder + "/secret";
        await File.WriteAllTextAsync(secret, "the reeds are high\n");
        var held = new List<string>();
        var (app, url) = await HookAsync(async http =>
        {
            using var reader = new StreamReader(http.Request.Body);
            var body = await reader.ReadToEndAsync();
            held.Add($"{IsSigned(http.Request, body, "the reeds are high")} {IsSigned(http.Request, body, "another")}");
            held.Add($"{IsSigned(http.Request, body + " ", "the reeds are high")}");
            held.Add(http.Request.Headers["Signature-Input"].ToString());
            http.Response.StatusCode = 204;
        });
        await using var _ = app;
        var channel = new ChannelDefinition("way", ChannelKind.Webhook) { Url = url, SignFile = secret };
        await Webhook().CarryAsync(channel, Telling(), default);
        Assert.Equal(["True False", "False"], held[..2]);
        Assert.Contains($"created={new DateTimeOffset(2026, 11, 23, 9, 0, 5, TimeSpan.Zero).ToUnixTimeSeconds()}", held[2]);
        // Tried again later it is signed as of then: an old one that somebody kept is seen to be old.
        await Webhook(now: new DateTimeOffset(2026, 11, 23, 9, 4, 0, TimeSpan.Zero)).CarryAsync(channel, Telling(), default);
        Assert.Equal("True False", held[3]);
        Assert.NotEqual(held[2], held[5]);
        // Without the secret nothing goes out.
        File.Delete(secret);
        var failed = await Assert.ThrowsAsync<ChannelFailedException>(() => Webhook().CarryAsync(channel, Telling(), default));
        Assert.Contains(secret, failed.Message);
        Assert.Equal(6, held.Count);
    }

    [Fact]
    public async Task A_receiver_that_sends_elsewhere_answers_late_or_without_end_costs_nothing()
    {
        var reached = 0;
        long sent = 0;
        var (app, url) = await HookAsync(async http =>
        {
            switch (http.Request.Path.Value)
            {
                case "/keep/elsewhere":
                    http.Response.Redirect("/keep/reached");
                    break;
                case "/keep/reached":
                    reached++;
                    break;
                case "/keep/late":
                    await Task.Delay(TimeSpan.FromMinutes(1), http.RequestAborted);
                    break;
                case "/keep/endless":
                    var piece = new byte[64 * 1024];
                    while (!http.RequestAborted.IsCancellationRequested && sent < 100_000_000)
                    {
                        await http.Response.Body.WriteAsync(piece, http.RequestAborted);
                        sent += piece.Length;
                    }
                    break;
            }
        });
        await using var _ = app;
        ChannelDefinition To(string path) => new("way", ChannelKind.Webhook) { Url = url + path };
        var elsewhere = await Assert.ThrowsAsync<ChannelFailedException>(() => Webhook().CarryAsync(To("/elsewhere"), Telling(), default));
        Assert.Contains("answered 302, which sends elsewhere", elsewhere.Message);
        Assert.Equal(0, reached);
        var late = await Assert.ThrowsAsync<ChannelFailedException>(() =>
            Webhook(TimeSpan.FromSeconds(1)).CarryAsync(To("/late"), Telling(), default)
        );
        Assert.Contains("no answer in time", late.Message);
        await Webhook().CarryAsync(To("/endless"), Telling(), default);
        Assert.InRange(sent, 0, 50_000_000);
        var nobody = await Assert.ThrowsAsync<ChannelFailedException>(() =>
            Webhook()
                .CarryAsync(
                    new ChannelDefinition("way", ChannelKind.Webhook) { Url = "http://127.0.0.1:1/secret-path" },
                    Telling(),
                    default
                )
        );
        Assert.DoesNotContain("secret-path", nobody.Message);
    }

    [Theory]
    [InlineData("alert-opened", "danger", 130)]
    [InlineData("alert-still-open", "broken-promise", 131)]
    [InlineData("alert-reopened", "failure", 132)]
    [InlineData("alert-back", "notice", 133)]
    [InlineData("alert-closed", "danger", 133)]
    [InlineData("duty-report", "danger", 134)]
    public async Task Syslog_says_what_is_at_stake_and_reads_back_as_it_was_said(string type, string severity, int priority)
    {
        using var udp = new UdpClient(new IPEndPoint(IPAddress.Loopback, 0));
        using var tcp = new TcpListener(IPAddress.Loopback, 0);
        tcp.Start();
        var carrier = new SyslogCarrier(Settings);
        var telling = Telling(type, severity, "The folder\n/srv/Vögel\u0007 is away\n\nWhat to do: mend it\n");
        var taken = TakeAsync(tcp);
        await carrier.CarryAsync(Channel($"udp://127.0.0.1:{((IPEndPoint)udp.Client.LocalEndPoint!).Port}"), telling, default);
        await carrier.CarryAsync(Channel($"tcp://127.0.0.1:{((IPEndPoint)tcp.LocalEndpoint).Port}"), telling, default);
        var datagram = (await udp.ReceiveAsync()).Buffer;
        var framed = await taken;
        // Counted octets, one frame, the same line.
        Assert.Equal($"{datagram.Length} {Encoding.UTF8.GetString(datagram)}", Encoding.UTF8.GetString(framed));
        var line = Encoding.UTF8.GetString(datagram);
        Assert.StartsWith($"<{priority}>1 2026-11-23T09:00:00.000000Z heron ironkeepd - {type} - \uFEFF", line);
        Assert.DoesNotContain(line, char.IsControl);
        var read = SyslogMessage.Read(datagram);
        Assert.NotNull(read);
        Assert.Equal("Iron Keep heron: FAILED store cellar. The folder /srv/Vögel  is away", read.Text.TrimStart('\uFEFF'));
    }

    private static ChannelDefinition Channel(string syslog) => new("way", ChannelKind.Syslog) { Syslog = syslog };

    private static async Task<byte[]> TakeAsync(TcpListener listener)
    {
        using var client = await listener.AcceptTcpClientAsync();
        using var all = new MemoryStream();
        await client.GetStream().CopyToAsync(all);
        return all.ToArray();
    }

    [Fact]
    public async Task A_long_message_is_cut_between_letters_and_a_receiver_that_is_not_there_or_not_trusted_is_said()
    {
        using var udp = new UdpClient(new IPEndPoint(IPAddress.Loopback, 0));
        var carrier = new SyslogCarrier(Settings);
        var port = ((IPEndPoint)udp.Client.LocalEndPoint!).Port;
        for (var pad = 0; pad < 4; pad++)
        {
            await carrier.CarryAsync(
                Channel($"udp://127.0.0.1:{port}"),
                Telling(body: new string('x', pad) + string.Concat(Enumerable.Repeat("🪶", 900))),
                default
            );
            var datagram = (await udp.ReceiveAsync()).Buffer;
            Assert.InRange(datagram.Length, 2045, 2048);
            Assert.DoesNotContain('\uFFFD', Encoding.UTF8.GetString(datagram));
        }
        var gone = await Assert.ThrowsAsync<ChannelFailedException>(() =>
            carrier.CarryAsync(Channel("tcp://127.0.0.1:1"), Telling(), default)
        );
        Assert.StartsWith("tcp://127.0.0.1:1: ", gone.Message);
        // Whoever speaks no TLS, or shows a certificate that nobody vouches for, hears nothing.
        using var plain = new TcpListener(IPAddress.Loopback, 0);
        plain.Start();
        var answers = Task.Run(async () =>
        {
            using var client = await plain.AcceptTcpClientAsync();
            await client.GetStream().WriteAsync("hello, who is there?\r\n"u8.ToArray());
            using var all = new MemoryStream();
            try
            {
                await client.GetStream().CopyToAsync(all);
            }
            catch (IOException)
            {
                // It hangs up.
            }
            return Encoding.UTF8.GetString(all.ToArray());
        });
        var foreign = $"tls://127.0.0.1:{((IPEndPoint)plain.LocalEndpoint).Port}";
        var failed = await Assert.ThrowsAsync<ChannelFailedException>(() => carrier.CarryAsync(Channel(foreign), Telling(), default));
        Assert.StartsWith(foreign, failed.Message);
        Assert.DoesNotContain("FAILED store", await answers);
    }

    private void Command(string name, string script, UnixFileMode? mode = null)
    {
        var file = Path.Combine(folder, name);
        File.WriteAllText(file, "#!/bin/sh\n" + script);
        File.SetUnixFileMode(file, mode ?? UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute);
    }

    private static ChannelDefinition Runs(string[] words, int seconds = 20) =>
        new("way", ChannelKind.Command) { Command = [.. words], CommandSeconds = seconds };

    private Task CarryAsync(params string[] words) => new CommandCarrier(Settings).CarryAsync(Runs(words), Telling(), default);

    private async Task<string> FailAsync(string[] words, int seconds = 20) =>
        (
            await Assert.ThrowsAsync<ChannelFailedException>(() =>
                new CommandCarrier(Settings).CarryAsync(Runs(words, seconds), Telling(), default)
            )
        ).Message;

    [Fact]
    public async Task A_command_gets_its_arguments_as_they_are_the_event_at_its_input_and_nothing_of_the_services_surroundings()
    {
        Environment.SetEnvironmentVariable("IRONKEEP_TEST_SECRET", "the reeds are high");
        Command(
            "page",
            $"for a in \"$@\"; do echo \"[$a]\"; done > {folder}/args; cat > {folder}/input; env > {folder}/env; pwd > {folder}/at"
        );
        await CarryAsync("page", "--to", "night crew", "{subject}", "$(touch /tmp/never)", "; {text}");
        Assert.Equal(
            "[--to]\n[night crew]\n[Iron Keep heron: FAILED store cellar]\n[$(touch /tmp/never)]\n[; It is away\n\nWhat to do: x]\n",
            await File.ReadAllTextAsync(folder + "/args")
        );
        var said = JsonDocument.Parse(await File.ReadAllTextAsync(folder + "/input")).RootElement;
        Assert.Equal(("1.0", "ironkeep.alert-opened"), (said.GetProperty("specversion").GetString(), said.GetProperty("type").GetString()));
        Assert.DoesNotContain("reeds", await File.ReadAllTextAsync(folder + "/env"));
        Assert.Equal("/\n", await File.ReadAllTextAsync(folder + "/at"));
        Environment.SetEnvironmentVariable("IRONKEEP_TEST_SECRET", null);
        // One that reads nothing, and one that leaves something behind which holds its outputs open, are done all the same.
        Command("deaf", "exec 0<&-; exit 0");
        await CarryAsync("deaf");
        Command("forking", "sleep 30 & exit 0");
        var began = Stopwatch.GetTimestamp();
        await CarryAsync("forking");
        Assert.InRange(Stopwatch.GetElapsedTime(began).TotalSeconds, 0, 15);
    }

    [Fact]
    public async Task A_command_that_fails_says_why_and_one_that_hangs_or_floods_is_ended()
    {
        Command("fails", "echo first >&2; echo 'the pager is out of reach' >&2; exit 3");
        Assert.Equal("command fails ended with 3: the pager is out of reach", await FailAsync(["fails"]));
        Command("quiet", "exit 1");
        Assert.Equal("command quiet ended with 1", await FailAsync(["quiet"]));
        Command("hangs", $"echo $$ > {folder}/pid; sleep 600 & echo $! > {folder}/child; wait");
        Assert.Equal("command hangs did not end within 1 s and was ended", await FailAsync(["hangs"], 1));
        foreach (var file in new[] { "pid", "child" })
        {
            var id = int.Parse(await File.ReadAllTextAsync($"{folder}/{file}"), System.Globalization.CultureInfo.InvariantCulture);
            Assert.True(await EndsAsync(id), $"{file} is at work still");
        }
        Command("floods", "yes 'too much' 2> /dev/null | head -c 45000000 >&2; exit 5");
        var before = GC.GetTotalMemory(true);
        Assert.Equal("command floods ended with 5: too much", await FailAsync(["floods"]));
        Assert.InRange(GC.GetTotalMemory(true) - before, -50_000_000, 5_000_000);
    }

    private static async Task<bool> EndsAsync(int process)
    {
        for (var i = 0; i < 200; i++)
        {
            var status = $"/proc/{process}/stat";
            if (!File.Exists(status) || (await File.ReadAllTextAsync(status)).Contains(") Z", StringComparison.Ordinal))
                return true;
            await Task.Delay(20);
        }
        return false;
    }

    [Fact]
    public async Task Only_what_its_owner_alone_can_change_is_run()
    {
        Assert.Contains($"there is no command page in {folder}", await FailAsync(["page"]));
        Command("page", $"touch {folder}/ran");
        Command("open", $"touch {folder}/ran", (UnixFileMode)0b111_111_111);
        Assert.Contains("chmod go-w", await FailAsync(["open"]));
        File.CreateSymbolicLink(folder + "/link", folder + "/page");
        Assert.Contains("is a link", await FailAsync(["link"]));
        Directory.CreateDirectory(folder + "/nested");
        Assert.Contains("or no file", await FailAsync(["nested"]));
        Command("anothers", $"touch {folder}/ran");
        if (Environment.UserName == "root")
        {
            Process.Start("chown", ["nobody", folder + "/anothers"]).WaitForExit();
            Assert.Contains("chown root", await FailAsync(["anothers"]));
        }
        Command("data", "", UnixFileMode.UserRead | UnixFileMode.UserWrite);
        Assert.StartsWith("command data cannot be run", await FailAsync(["data"]));
        File.SetUnixFileMode(folder, (UnixFileMode)0b111_111_111);
        Assert.Contains("chmod go-w", await FailAsync(["page"]));
        Assert.False(File.Exists(folder + "/ran"));
        File.SetUnixFileMode(folder, UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute);
        await CarryAsync("page");
        Assert.True(File.Exists(folder + "/ran"));
    }

    /// <summary>
    /// From the charter to the pager: what fails is told through the command, and a command that is not there through the rest.
    /// </summary>
    [Fact]
    public async Task A_channel_of_the_charter_runs_its_command_and_one_that_is_missing_is_an_alert()
    {
        await using var bench = await Bench.StartAsync();
        bench.More = [$"--IronKeep:CommandsFolder={folder}"];
        await bench.RestartAsync();
        Command("page", $"echo \"$1\" >> {folder}/pages");
        await bench.ApplyAsync(
            bench
                .Charter()
                .Replace(
                    "stores:",
                    "tells: [pager, other]\nchannels:\n  pager: { command: [page, '{subject}'] }\n  other: { command: none }\nstores:",
                    StringComparison.Ordinal
                )
        );
        Directory.Delete(bench.Source);
        await bench.BackUpAsync();
        await bench.Services.GetRequiredService<Teller>().CarryAsync(default);
        Assert.Equal(
            ["Iron Keep heron: FAILED job register on heron", "Iron Keep heron: UNTOLD channel other"],
            await File.ReadAllLinesAsync(folder + "/pages")
        );
        var answers = await bench.GetAsync<List<IronKeep.Contracts.ChannelAnswer>>("channels");
        Assert.Equal(["none", "page {subject}"], answers.Select(a => a.To));
        Assert.Contains("there is no command none", answers[0].Problem);
    }

    [Fact]
    public void All_mail_of_an_alert_is_one_thread_and_its_html_says_the_same()
    {
        var channel = new ChannelDefinition("way", ChannelKind.Pickup)
        {
            MailTo = ["mira@saltmere.example"],
            MailFrom = "keep@saltmere.example",
        };
        var opened = Mails.Write(channel, Telling(body: "It is <away> & gone\n\nWhat to do: x\ny\n\nmachine   copies\nheron     3\n"));
        var closed = Mails.Write(channel, Telling("alert-closed"));
        var other = Mails.Write(channel, Telling("duty-report"));
        Assert.Equal("alert-3.1795424400000@ironkeep.invalid", opened.MessageId);
        Assert.Null(opened.InReplyTo);
        Assert.Equal((opened.MessageId, opened.MessageId), (closed.InReplyTo, Assert.Single(closed.References)));
        Assert.NotEqual(opened.MessageId, closed.MessageId);
        Assert.Null(other.InReplyTo);
        var html = opened.HtmlBody!;
        Assert.Contains("<p>It is &lt;away&gt; &amp; gone</p>", html);
        Assert.Contains("<p>What to do: x<br>\ny</p>", html);
        Assert.Contains("<pre>machine   copies\nheron     3</pre>", html);
        Assert.Equal("multipart/alternative", opened.Body!.ContentType.MimeType);
        // Nothing is asked of elsewhere, and nothing runs.
        Assert.DoesNotMatch("(?i)http|<script|src=", html);
    }
}
