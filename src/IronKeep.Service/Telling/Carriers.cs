using System.Net.Http.Headers;
using System.Text;
using System.Text.Json.Nodes;
using IronKeep.Catalogue;
using IronKeep.Core.Charters;
using IronKeep.Core.Watching.Logs;
using IronKeep.Service.Basics;
using MailKit.Net.Smtp;
using MailKit.Security;
using Microsoft.Extensions.Options;
using MimeKit;

namespace IronKeep.Service.Telling;

/// <summary>Carries a message through one kind of channel; throws <see cref="ChannelFailedException"/>.</summary>
public interface IChannelCarrier
{
    ChannelKind Kind { get; }

    Task CarryAsync(ChannelDefinition channel, Message telling, CancellationToken cancel);
}

/// <summary>A channel did not carry a message; the sentence says why and never a secret.</summary>
public sealed class ChannelFailedException(string message, Exception? inner = null) : Exception(message, inner);

/// <summary>Messages as mail (RFC 5322), plain text.</summary>
internal static class Mails
{
    public static MimeMessage Write(ChannelDefinition channel, Message telling)
    {
        var mail = new MimeMessage
        {
            Subject = telling.Subject,
            Date = telling.MadeAt.ToDateTimeOffset(),
            MessageId = $"{telling.Id}.{telling.MadeAt.ToUnixTimeMilliseconds()}@ironkeep.invalid",
        };
        mail.From.Add(MailboxAddress.Parse(channel.MailFrom!));
        foreach (var to in channel.MailTo)
            mail.To.Add(MailboxAddress.Parse(to));
        // Nobody's absence note should answer a machine (RFC 3834).
        mail.Headers.Add("Auto-Submitted", "auto-generated");
        mail.Body = new TextPart("plain") { Text = telling.Body };
        return mail;
    }

    public static string ReadSecret(string file)
    {
        try
        {
            return File.ReadAllText(file).TrimEnd('\r', '\n');
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            throw new ChannelFailedException($"the secret in {file} cannot be read: {e.Message}", e);
        }
    }
}

/// <summary>Mail through an SMTP server.</summary>
internal sealed class SmtpCarrier : IChannelCarrier
{
    private const int TimeoutMilliseconds = 20_000;

    public ChannelKind Kind => ChannelKind.Smtp;

    public async Task CarryAsync(ChannelDefinition channel, Message telling, CancellationToken cancel)
    {
        var server = $"{channel.Host}:{channel.Port}";
        try
        {
            using var smtp = new SmtpClient { Timeout = TimeoutMilliseconds };
            await smtp.ConnectAsync(
                channel.Host!,
                channel.Port,
                channel.Security switch
                {
                    MailSecurity.None => SecureSocketOptions.None,
                    MailSecurity.Tls => SecureSocketOptions.SslOnConnect,
                    _ => SecureSocketOptions.StartTls,
                },
                cancel
            );
            if (channel.User is { } user)
                await smtp.AuthenticateAsync(user, Mails.ReadSecret(channel.PasswordFile!), cancel);
            await smtp.SendAsync(Mails.Write(channel, telling), cancel);
            await smtp.DisconnectAsync(true, cancel);
        }
        catch (AuthenticationException e)
        {
            throw new ChannelFailedException($"mail server {server} refused the name and password of {channel.User}", e);
        }
        catch (Exception e)
            when (e
                    is SmtpCommandException
                        or SmtpProtocolException
                        or IOException
                        or System.Net.Sockets.SocketException
                        or SslHandshakeException
                        or NotSupportedException
                        or TimeoutException
            )
        {
            throw new ChannelFailedException($"mail server {server}: {e.Message.Split('\n')[0]}", e);
        }
    }
}

/// <summary>Mail as files that another program picks up: one <c>.eml</c> a message, complete under its name or not there.</summary>
internal sealed class PickupCarrier : IChannelCarrier
{
    public ChannelKind Kind => ChannelKind.Pickup;

    public async Task CarryAsync(ChannelDefinition channel, Message telling, CancellationToken cancel)
    {
        try
        {
            Directory.CreateDirectory(channel.Folder!);
            var name = Path.Combine(channel.Folder!, $"{telling.MadeAt.ToDateTimeUtc():yyyyMMdd-HHmmss}-{telling.Id}.eml");
            // A new file under a name that nobody can foresee: a link planted in the folder must not be followed.
            var part = Path.Combine(channel.Folder!, $".{Guid.NewGuid():n}.part");
            try
            {
                await using (var file = new FileStream(part, FileMode.CreateNew, FileAccess.Write))
                {
                    // Another program fetches it, perhaps under another user. By the open file: the name may be a link to elsewhere by now.
                    File.SetUnixFileMode(file.SafeFileHandle, UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.GroupRead);
                    await Mails.Write(channel, telling).WriteToAsync(file, cancel);
                }
                File.Move(part, name, overwrite: true);
            }
            finally
            {
                File.Delete(part);
            }
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            throw new ChannelFailedException($"pickup folder {channel.Folder}: {e.Message}", e);
        }
    }
}

/// <summary>CloudEvents 1.0 in structured JSON mode, posted to an address.</summary>
internal sealed class WebhookCarrier(HttpClient http, IOptions<ServiceSettings> settings) : IChannelCarrier
{
    public ChannelKind Kind => ChannelKind.Webhook;

    public async Task CarryAsync(ChannelDefinition channel, Message telling, CancellationToken cancel)
    {
        var body = new JsonObject
        {
            ["specversion"] = "1.0",
            ["id"] = $"{telling.Id}",
            ["source"] = $"/ironkeep/{settings.Value.Machine}",
            ["type"] = $"ironkeep.{telling.Type}",
            ["time"] = telling
                .MadeAt.ToDateTimeOffset()
                .ToString("yyyy-MM-dd'T'HH:mm:ss'Z'", System.Globalization.CultureInfo.InvariantCulture),
            ["subject"] = telling.Subject,
            ["datacontenttype"] = "application/json",
            ["data"] = JsonNode.Parse(telling.Data),
        };
        var told = WebAddress.Told(channel);
        try
        {
            using var request = new HttpRequestMessage(HttpMethod.Post, WebAddress.Of(channel))
            {
                Content = new StringContent(body.ToJsonString(), Encoding.UTF8, "application/cloudevents+json"),
            };
            if (channel.TokenFile is { } file)
                request.Headers.Authorization = new AuthenticationHeaderValue("Bearer", Mails.ReadSecret(file));
            using var response = await http.SendAsync(request, cancel);
            if (!response.IsSuccessStatusCode)
                throw new ChannelFailedException($"{told} answered {(int)response.StatusCode}");
        }
        catch (Exception e)
            when (e is HttpRequestException or FormatException || (e is TaskCanceledException && !cancel.IsCancellationRequested))
        {
            // The library's text can name the address.
            throw new ChannelFailedException(
                $"{told}: "
                    + (
                        e is FormatException ? "the token cannot be sent as it is"
                        : e is TaskCanceledException ? "no answer in time"
                        : e.InnerException?.Message ?? "it cannot be reached"
                    ),
                e
            );
        }
    }
}

/// <summary>Where a webhook goes. Its address can be a secret itself, so what is written or told of it is cut to scheme and host.</summary>
internal static class WebAddress
{
    public static Uri Of(ChannelDefinition channel)
    {
        var text = channel.Url ?? Mails.ReadSecret(channel.UrlFile!).Trim();
        return Uri.TryCreate(text, UriKind.Absolute, out var address) && address.Scheme is "http" or "https"
            ? address!
            : throw new ChannelFailedException($"the file {channel.UrlFile} holds no address; write one such as https://host/path into it");
    }

    public static string Told(ChannelDefinition channel)
    {
        try
        {
            var address = Of(channel);
            return $"{address.Scheme}://{address.Authority}";
        }
        catch (ChannelFailedException)
        {
            return $"the address in {channel.UrlFile}";
        }
    }
}
