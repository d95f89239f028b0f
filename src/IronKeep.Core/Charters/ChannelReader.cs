using System.Globalization;
using IronKeep.Core.Quantities;

namespace IronKeep.Core.Charters;

/// <summary>Reads one channel: exactly one of 'server', 'pickup', 'webhook', 'syslog', 'command' and 'desk' says how it carries.</summary>
internal sealed class ChannelReader(string name, List<Mistake> mistakes)
{
    private readonly string about = $"channel {name}";

    public ChannelDefinition? Read(CharterNode node)
    {
        var map = new MapReader(node, about, mistakes, CharterLanguage.Names("channel"));
        var (server, pickup, webhook) = (map.Scalar("server"), map.Scalar("pickup"), map.Scalar("webhook"));
        var webhookFile = map.Scalar("webhook-file");
        if (webhook is not null && webhookFile is not null)
            Wrong(webhookFile, "the address stands in 'webhook' already; keep one of 'webhook' and 'webhook-file'");
        var (syslog, command) = (map.Scalar("syslog"), map.Strings("command") ?? []);
        var (sign, seconds, desk) = (map.Scalar("sign-file"), map.Scalar("command-seconds"), map.Scalar("desk"));
        var ways = new[] { server, pickup, webhook ?? webhookFile, syslog, command.FirstOrDefault(), desk }.Count(w => w is not null);
        if (ways != 1 && node is MapNode)
        {
            Wrong(
                node,
                ways == 0
                    ? "says no way to carry what it tells; add 'server: mail.example.org:587', 'pickup: /var/spool/mail-out', 'webhook: "
                        + "https://…', 'syslog: udp://loghost', 'command: [page, …]' or 'desk: https://…'"
                    : "has several ways; keep one of 'server', 'pickup', 'webhook', 'syslog', 'command' and 'desk'"
            );
            return null;
        }
        var to = map.Strings("mail-to") ?? [];
        var from = map.Scalar("mail-from");
        var security = map.Scalar("security");
        var (user, password, token) = (map.Scalar("user"), map.Scalar("password-file"), map.Scalar("token-file"));
        foreach (var address in from is null ? to : to.Append(from))
            if (!IsAddress(address.Value))
                Wrong(address, $"'{address.Value}' is not a mail address; write somebody@example.org");
        foreach (var file in new[] { password, token, pickup, webhookFile, sign })
            if (file is not null && CharterReader.PathProblem(file.Value) is { } problem)
                Wrong(file, problem);
        if (command.Count == 0)
            Refuse("goes with a command", seconds);
        if (desk is null)
            foreach (var key in DeskReader.Keys)
                if (map.Any(key) is { } stray)
                    Wrong(stray, $"'{key}' goes with a ticket desk, which 'desk' names; take the line out");
        if (desk is not null)
        {
            Refuse("goes with another way to tell", to.FirstOrDefault(), from, security, user, password, sign);
            return new DeskReader(map, Wrong).Read(desk, token is not null) is { } read
                ? new ChannelDefinition(name, ChannelKind.Desk) { Desk = read, TokenFile = token?.Value }
                : null;
        }
        if (syslog is not null || command.Count > 0)
        {
            Refuse("goes with mail or a webhook", to.FirstOrDefault(), from, security, user, password, token, sign);
            return syslog is not null ? ReadSyslog(syslog) : ReadCommand(command, seconds);
        }
        if (webhookFile is not null && webhook is null)
        {
            Refuse("goes with mail, not with a webhook", to.FirstOrDefault(), from, security, user, password);
            return new ChannelDefinition(name, ChannelKind.Webhook)
            {
                UrlFile = webhookFile.Value,
                TokenFile = token?.Value,
                SignFile = sign?.Value,
            };
        }
        if (webhook is not null)
        {
            Refuse("goes with mail, not with a webhook", to.FirstOrDefault(), from, security, user, password);
            if (!Uri.TryCreate(webhook.Value, UriKind.Absolute, out var uri) || uri.Scheme is not ("http" or "https"))
                Wrong(webhook, $"'{webhook.Value}' is not an address; write https://host/path");
            else if (uri.UserInfo.Length > 0)
                Wrong(webhook, "an address must not carry a name or password; put a token into a file and name it with 'token-file'");
            else if (uri.Segments.Concat(uri.Query.Split('?', '&', '=')).Any(LooksSecret))
                Wrong(
                    webhook,
                    "an address that is a secret itself does not belong into a charter, which many can read; write it into a file and name "
                        + "that with 'webhook-file'"
                );
            return new ChannelDefinition(name, ChannelKind.Webhook)
            {
                Url = webhook.Value,
                TokenFile = token?.Value,
                SignFile = sign?.Value,
            };
        }
        if (to.Count == 0)
            map.Missing("mail-to", "say who gets the mail: 'mail-to: [crew@example.org]'");
        if (from is null)
            map.Missing("mail-from", "say from whom it comes: 'mail-from: ironkeep@example.org'");
        Refuse("goes with a webhook, not with mail", token, sign);
        var channel = new ChannelDefinition(name, pickup is null ? ChannelKind.Smtp : ChannelKind.Pickup)
        {
            MailTo = [.. to.Select(t => t.Value)],
            MailFrom = from?.Value,
        };
        if (pickup is not null)
        {
            Refuse("goes with 'server', not with 'pickup'", security, user, password);
            return channel with { Folder = CharterReader.Normal(pickup.Value) };
        }
        if (server is null || ReadServer(server) is not { } place)
            return null;
        if ((user is null) != (password is null))
            Wrong((user ?? password)!, "'user' and 'password-file' go together; give both or neither");
        var protection = security is null ? MailSecurity.StartTls : Kebab.Read<MailSecurity>(security.Value);
        if (protection is null)
            Wrong(security!, $"'{security!.Value}' is not known here; use start-tls, tls or none");
        if (protection == MailSecurity.None && user is not null)
            Wrong(security!, "a password must not travel unprotected; use start-tls or tls");
        return channel with
        {
            Host = place.Host,
            Port = place.Port,
            Security = protection ?? default,
            User = user?.Value,
            PasswordFile = password?.Value,
        };
    }

    private ChannelDefinition? ReadSyslog(ScalarNode syslog)
    {
        if (
            Uri.TryCreate(syslog.Value, UriKind.Absolute, out var at)
            && at is { Scheme: "udp" or "tcp" or "tls", Host.Length: > 0, UserInfo.Length: 0, Query.Length: 0, AbsolutePath: "/" or "" }
        )
            return new ChannelDefinition(name, ChannelKind.Syslog) { Syslog = syslog.Value };
        Wrong(syslog, $"'{syslog.Value}' is not a receiver of syslog; write udp://loghost, tcp://loghost:601 or tls://loghost:6514");
        return null;
    }

    /// <summary>
    /// A name and no path: what may be run is chosen by whoever has the service's machine, not by whoever edits a charter.
    /// </summary>
    private ChannelDefinition? ReadCommand(List<ScalarNode> command, ScalarNode? seconds)
    {
        var program = command[0];
        if (!program.Value.All(c => char.IsAsciiLetterOrDigit(c) || c is '-' or '_' or '.') || program.Value.StartsWith('.'))
        {
            Wrong(
                program,
                $"'{program.Value}' is not the name of a command; put the command into the service's folder for them and name it here"
            );
            return null;
        }
        var most = ChannelDefinition.MostCommandSeconds;
        var within = ChannelDefinition.UsualCommandSeconds;
        if (
            seconds is not null
            && !(int.TryParse(seconds.Value, NumberStyles.None, CultureInfo.InvariantCulture, out within) && within >= 1 && within <= most)
        )
            Wrong(seconds, $"'{seconds.Value}' is not a number of seconds from 1 to {most}");
        return new ChannelDefinition(name, ChannelKind.Command) { Command = [.. command.Select(c => c.Value)], CommandSeconds = within };
    }

    private (string Host, int Port)? ReadServer(ScalarNode server)
    {
        var colon = server.Value.LastIndexOf(':');
        if (
            colon > 0
            && int.TryParse(server.Value.AsSpan(colon + 1), NumberStyles.None, CultureInfo.InvariantCulture, out var port)
            && port is > 0 and < 65536
            && Uri.CheckHostName(server.Value[..colon].Trim('[', ']')) != UriHostNameType.Unknown
        )
            return (server.Value[..colon], port);
        Wrong(server, $"'{server.Value}' is not a server with its port; write mail.example.org:587");
        return null;
    }

    /// <summary>A part of a path that nobody would choose for people to read: long, with digits among its letters.</summary>
    private static bool LooksSecret(string segment) =>
        segment.Trim('/') is { Length: >= 20 } part
        && part.Any(char.IsAsciiDigit)
        && part.Any(char.IsAsciiLetter)
        && !part.Contains('.', StringComparison.Ordinal);

    internal static bool IsAddress(string text)
    {
        var at = text.IndexOf('@', StringComparison.Ordinal);
        return at > 0
            && at < text.Length - 1
            && text.LastIndexOf('@') == at
            && !text.Any(c => char.IsWhiteSpace(c) || char.IsControl(c) || "<>,;\"".Contains(c));
    }

    private void Refuse(string why, params ReadOnlySpan<ScalarNode?> nodes)
    {
        foreach (var node in nodes)
            if (node is not null)
                Wrong(node, $"'{node.Value}' {why}; take the line out");
    }

    private void Wrong(CharterNode at, string message) => mistakes.Add(new Mistake(at.Line, at.Column, about, message));
}
