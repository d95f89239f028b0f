using System.Collections.Immutable;
using IronKeep.Core.Telling;

namespace IronKeep.Core.Charters;

/// <summary>How a channel carries what it tells.</summary>
public enum ChannelKind
{
    Smtp,
    Pickup,
    Webhook,
    Syslog,
    Command,
    Desk,
}

/// <summary>How an SMTP connection is protected.</summary>
public enum MailSecurity
{
    None,
    StartTls,
    Tls,
}

/// <summary>
/// A way to tell somebody: mail through an SMTP server, mail as files in a pickup folder, a webhook, a receiver of syslog, a command of
/// the site's own, or a desk in which each alert is a ticket. Secrets are never in a charter: it names the file that holds them.
/// </summary>
public sealed record ChannelDefinition(string Name, ChannelKind Kind)
{
    /// <summary>Whether it carries mail, which can go to a person's own address.</summary>
    public bool CarriesMail => Kind is ChannelKind.Smtp or ChannelKind.Pickup;
    public ImmutableArray<string> MailTo { get; init; } = [];
    public string? MailFrom { get; init; }
    public string? Host { get; init; }
    public int Port { get; init; }
    public MailSecurity Security { get; init; } = MailSecurity.StartTls;
    public string? User { get; init; }
    public string? PasswordFile { get; init; }
    public string? Folder { get; init; }

    /// <summary>The address of a webhook, or the file that holds it, where it is a secret.</summary>
    public string? Url { get; init; }
    public string? UrlFile { get; init; }
    public string? TokenFile { get; init; }

    /// <summary>The file with the secret that a webhook's receiver shares, by which each message is signed; null: none is.</summary>
    public string? SignFile { get; init; }

    /// <summary>A receiver of syslog: udp://, tcp:// or tls:// with a host, and a port where it is not the usual one.</summary>
    public string? Syslog { get; init; }

    /// <summary>The name of a command in the service's folder for them, and its arguments.</summary>
    public ImmutableArray<string> Command { get; init; } = [];

    /// <summary>After how many seconds a command is ended.</summary>
    public int CommandSeconds { get; init; } = UsualCommandSeconds;
    public const int UsualCommandSeconds = 30,
        MostCommandSeconds = 50;

    /// <summary>The desk in which alerts are tickets. It takes alerts and nothing else, each by itself.</summary>
    public TicketDesk? Desk { get; init; }

    public bool Equals(ChannelDefinition? other) =>
        other is not null && CharterFields.Of(this).SequenceEqual(CharterFields.Of(other)) && Name == other.Name;

    public override int GetHashCode() => HashCode.Combine(Name, Kind);
}
