using System.Net;
using System.Text;
using System.Text.Json.Nodes;
using IronKeep.Catalogue;
using IronKeep.Core.Charters;
using MimeKit;

namespace IronKeep.Service.Telling;

/// <summary>
/// Messages as mail (RFC 5322): plain text and the same as HTML. What is told of one alert stands in one thread.
/// </summary>
internal static class Mails
{
    private const int MostSecret = 16_384;

    public static MimeMessage Write(ChannelDefinition channel, Message telling)
    {
        var thread = ThreadOf(telling);
        var mail = new MimeMessage
        {
            Subject = telling.Subject,
            Date = telling.MadeAt.ToDateTimeOffset(),
            MessageId =
                telling.Type == "alert-opened" && thread is not null
                    ? thread
                    : $"{telling.Id}.{telling.MadeAt.ToUnixTimeMilliseconds()}@ironkeep.invalid",
        };
        if (thread is not null && mail.MessageId != thread)
        {
            mail.InReplyTo = thread;
            mail.References.Add(thread);
        }
        mail.From.Add(MailboxAddress.Parse(channel.MailFrom!));
        foreach (var to in telling.Mail is { } person ? [person] : channel.MailTo)
            mail.To.Add(MailboxAddress.Parse(to));
        // Nobody's absence note should answer a machine (RFC 3834).
        mail.Headers.Add("Auto-Submitted", "auto-generated");
        mail.Body = new BodyBuilder { TextBody = telling.Body, HtmlBody = telling.Html ?? Html(telling.Body) }.ToMessageBody();
        return mail;
    }

    /// <summary>The same for all that is told of an alert from its opening on; null where the message is of none.</summary>
    private static string? ThreadOf(Message telling)
    {
        if (!telling.Type.StartsWith("alert-", StringComparison.Ordinal) || JsonNode.Parse(telling.Data) is not { } alert)
            return null;
        return alert["openedAt"]?.GetValue<DateTimeOffset>() is { } opened && alert["id"]?.GetValue<long>() is { } id
            ? $"alert-{id}.{opened.ToUnixTimeMilliseconds()}@ironkeep.invalid"
            : null;
    }

    /// <summary>Paragraphs as they are; what is set in columns keeps them.</summary>
    private static string Html(string text)
    {
        var html = new StringBuilder("<!DOCTYPE html><html><head><meta charset=\"utf-8\"></head><body>\n");
        foreach (var paragraph in text.TrimEnd().Split("\n\n", StringSplitOptions.RemoveEmptyEntries))
        {
            var inColumns = paragraph.Contains("   ", StringComparison.Ordinal);
            var lines = WebUtility.HtmlEncode(paragraph.Trim('\n'));
            html.Append(inColumns ? $"<pre>{lines}</pre>\n" : $"<p>{lines.Replace("\n", "<br>\n", StringComparison.Ordinal)}</p>\n");
        }
        return html.Append("</body></html>\n").ToString();
    }

    public static string ReadSecret(string file)
    {
        try
        {
            // What the charter names may be anything; a secret is short.
            using var reader = new StreamReader(file);
            var text = new char[MostSecret + 1];
            var length = reader.ReadBlock(text);
            return length <= MostSecret
                ? new string(text, 0, length).TrimEnd('\r', '\n')
                : throw new ChannelFailedException(
                    $"{file} holds more than {MostSecret} characters, so it is no secret; name another file"
                );
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            throw new ChannelFailedException($"the secret in {file} cannot be read: {e.Message}", e);
        }
    }
}
