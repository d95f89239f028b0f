using IronKeep.Catalogue;
using IronKeep.Core.Charters;
using IronKeep.Core.Quantities;
using IronKeep.Core.Watching.Logs;
using MailKit.Net.Smtp;
using MailKit.Security;
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

/// <summary>
/// A channel works and refused this message for good, to all or some of those it was for. It is not tried again, and holds up no other.
/// </summary>
public sealed class MessageRefusedException(string message, bool toSome, Exception? inner = null) : Exception(message, inner)
{
    /// <summary>Whether others got it.</summary>
    public bool ToSome => toSome;
}

/// <summary>Mail through an SMTP server.</summary>
internal sealed class SmtpCarrier(TimeSpan? patience = null) : IChannelCarrier
{
    private readonly int timeout = (int)(patience ?? TimeSpan.FromSeconds(20)).TotalMilliseconds;

    public ChannelKind Kind => ChannelKind.Smtp;

    public async Task CarryAsync(ChannelDefinition channel, Message telling, CancellationToken cancel)
    {
        var server = $"{channel.Host}:{channel.Port}";
        try
        {
            using var smtp = new ToAllWhoAreTaken { Timeout = timeout };
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
            if (smtp.Refused.Count > 0)
                throw new MessageRefusedException($"mail server {server} does not take mail for {Counted.Named(smtp.Refused)}", true);
        }
        catch (SmtpCommandException e) when (IsForGood(e))
        {
            throw new MessageRefusedException($"mail server {server} refused the message for good: {e.Message.Split('\n')[0]}", false, e);
        }
        catch (MessageRefusedException e) when (!e.ToSome)
        {
            throw new MessageRefusedException($"mail server {server}: {e.Message}", false, e);
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
            var code = e is SmtpCommandException refused ? $"{(int)refused.StatusCode} " : "";
            throw new ChannelFailedException($"mail server {server}: {code}{e.Message.Split('\n')[0]}", e);
        }
    }

    /// <summary>A 5xx to what the message says; another message may be taken.</summary>
    private static bool IsForGood(SmtpCommandException e) =>
        (int)e.StatusCode is >= 500 and < 600 && e.ErrorCode == SmtpErrorCode.MessageNotAccepted;
}

/// <summary>Sends to those whom the server takes, and remembers whom it refuses for good.</summary>
internal sealed class ToAllWhoAreTaken : SmtpClient
{
    public List<string> Refused { get; } = [];

    protected override void OnRecipientNotAccepted(MimeMessage message, MailboxAddress mailbox, SmtpResponse response)
    {
        // One that may be taken later is tried again, with all others: twice is better than never.
        if ((int)response.StatusCode < 500)
            base.OnRecipientNotAccepted(message, mailbox, response);
        Refused.Add($"{mailbox.Address} ({response.Response.Split('\n')[0]})");
    }

    protected override void OnNoRecipientsAccepted(MimeMessage message) =>
        throw new MessageRefusedException($"it does not take mail for {Counted.Named(Refused)}", false);
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
