using System.Globalization;
using System.Net.Security;
using System.Net.Sockets;
using System.Security.Authentication;
using System.Text;
using System.Text.Json.Nodes;
using IronKeep.Catalogue;
using IronKeep.Core.Charters;
using IronKeep.Core.Quantities;
using IronKeep.Core.Watching;
using IronKeep.Service.Basics;
using Microsoft.Extensions.Options;

namespace IronKeep.Service.Telling;

/// <summary>
/// Messages as syslog (RFC 5424), one line each: over UDP (RFC 5426), where nobody learns whether it arrived, or over TCP or TLS with
/// counted octets (RFC 5425, RFC 6587).
/// </summary>
internal sealed class SyslogCarrier(IOptions<ServiceSettings> settings) : IChannelCarrier
{
    /// <summary>A longer datagram may be cut by whoever passes it on (RFC 5426, section 3.2), in bytes.</summary>
    private const int MostOfDatagram = 2048;
    private const int MostOfLine = 8192;
    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(20);

    public ChannelKind Kind => ChannelKind.Syslog;

    public async Task CarryAsync(ChannelDefinition channel, Message telling, CancellationToken cancel)
    {
        var at = new Uri(channel.Syslog!);
        var port = at.Port > 0 ? at.Port : PortOf(at.Scheme);
        using var within = CancellationTokenSource.CreateLinkedTokenSource(cancel);
        within.CancelAfter(Patience);
        try
        {
            if (at.Scheme == "udp")
            {
                using var udp = new UdpClient();
                udp.Connect(at.DnsSafeHost, port);
                await udp.SendAsync(SyslogText.Write(telling, settings.Value.Machine, MostOfDatagram), within.Token);
                return;
            }
            using var tcp = new TcpClient();
            await tcp.ConnectAsync(at.DnsSafeHost, port, within.Token);
            await using var raw = tcp.GetStream();
            await using var secure = at.Scheme == "tls" ? new SslStream(raw) : null;
            if (secure is not null)
                await secure.AuthenticateAsClientAsync(new SslClientAuthenticationOptions { TargetHost = at.DnsSafeHost }, within.Token);
            Stream stream = secure is null ? raw : secure;
            var line = SyslogText.Write(telling, settings.Value.Machine, MostOfLine);
            var count = Encoding.ASCII.GetBytes($"{line.Length} ");
            await stream.WriteAsync((byte[])[.. count, .. line], within.Token);
            await stream.FlushAsync(within.Token);
            if (secure is not null)
                await secure.ShutdownAsync();
            tcp.Client.Shutdown(SocketShutdown.Send);
            // A receiver that goes away meanwhile says so now; one that says nothing has taken it.
            using var quiet = CancellationTokenSource.CreateLinkedTokenSource(within.Token);
            quiet.CancelAfter(TimeSpan.FromMilliseconds(200));
            try
            {
                await raw.ReadAtLeastAsync(new byte[1], 1, throwOnEndOfStream: false, quiet.Token);
            }
            catch (OperationCanceledException) when (!within.IsCancellationRequested)
            {
                // It says nothing.
            }
        }
        catch (OperationCanceledException e) when (!cancel.IsCancellationRequested)
        {
            throw new ChannelFailedException($"{channel.Syslog} did not answer within {Patience.TotalSeconds:0} s", e);
        }
        catch (Exception e) when (e is SocketException or IOException or AuthenticationException)
        {
            throw new ChannelFailedException($"{channel.Syslog}: {e.Message.Split('\n')[0]}", e);
        }
    }

    private static int PortOf(string scheme) =>
        scheme switch
        {
            "udp" => 514,
            "tcp" => 601,
            _ => 6514,
        };
}

/// <summary>The text of a message as syslog has it (RFC 5424, section 6).</summary>
internal static class SyslogText
{
    /// <summary>Local use 0 (RFC 5424, section 6.2.1).</summary>
    private const int Facility = 16;

    /// <summary>The whole line in bytes, at most so many, never cut inside a letter.</summary>
    public static byte[] Write(Message telling, string machine, int most)
    {
        var at = telling.MadeAt.ToDateTimeOffset().ToString("yyyy-MM-dd'T'HH:mm:ss.ffffff'Z'", CultureInfo.InvariantCulture);
        var id = telling.Type.Length <= 32 ? telling.Type : telling.Type[..32];
        var head = $"<{Facility * 8 + Level(telling)}>1 {at} {machine} ironkeepd - {id} - \uFEFF";
        var text = $"{telling.Subject}. {telling.Body.Split("\n\n")[0]}";
        var line = new StringBuilder(head);
        var bytes = Encoding.UTF8.GetByteCount(head);
        foreach (var rune in text.TrimEnd().EnumerateRunes())
        {
            var shown = Rune.IsControl(rune) ? new Rune(' ') : rune;
            if ((bytes += shown.Utf8SequenceLength) > most)
                break;
            line.Append(shown);
        }
        return Encoding.UTF8.GetBytes(line.ToString());
    }

    /// <summary>Its severity (RFC 5424, section 6.2.1) by what is at stake.</summary>
    private static int Level(Message telling)
    {
        const int Critical = 2,
            Error = 3,
            Warning = 4,
            Notice = 5,
            Informational = 6;
        if (!telling.Type.StartsWith("alert-", StringComparison.Ordinal))
            return Informational;
        if (telling.Type == "alert-closed")
            return Notice;
        var word = JsonNode.Parse(telling.Data)?["severity"]?.GetValue<string>();
        return Kebab.Read<Severity>(word ?? "") switch
        {
            Severity.Danger => Critical,
            Severity.BrokenPromise => Error,
            Severity.Failure => Warning,
            _ => Notice,
        };
    }
}
