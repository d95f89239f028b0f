using System.Collections.Immutable;

namespace IronKeep.Core.Charters;

/// <summary>How a channel carries what it tells.</summary>
public enum ChannelKind
{
    Smtp,
    Pickup,
    Webhook,
}

/// <summary>How an SMTP connection is protected.</summary>
public enum MailSecurity
{
    None,
    StartTls,
    Tls,
}

/// <summary>
/// A way to tell somebody: mail through an SMTP server, mail as files in a pickup folder, or a webhook. Secrets are never in a
/// charter: it names the file that holds them.
/// </summary>
public sealed record ChannelDefinition(string Name, ChannelKind Kind)
{
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

    public bool Equals(ChannelDefinition? other) =>
        other is not null && CharterFields.Of(this).SequenceEqual(CharterFields.Of(other)) && Name == other.Name;

    public override int GetHashCode() => HashCode.Combine(Name, Kind);
}
