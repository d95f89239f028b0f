using System.Net;
using IronKeep.Service.Basics;

namespace IronKeep.Service.Hearing;

/// <summary>How syslog is listened for.</summary>
public enum SyslogOver
{
    Udp,
    Tcp,
    Tls,
}

/// <summary>An address to listen on for syslog.</summary>
public sealed record SyslogAddress(SyslogOver Over, IPEndPoint At)
{
    public override string ToString() => $"{Over.ToString().ToLowerInvariant()}://{At}";
}

/// <summary>Reads the addresses of the settings, which were checked at the start.</summary>
internal static class SyslogAddresses
{
    public static SyslogAddress? ToSyslogAddress(this ServiceSettings settings, string text)
    {
        var at = new Uri(text);
        return
            Enum.TryParse<SyslogOver>(at.Scheme, ignoreCase: true, out var over)
            && IPAddress.TryParse(at.Host.Trim('[', ']'), out var address)
            ? new SyslogAddress(over, new IPEndPoint(address, at.Port))
            : null;
    }
}

/// <summary>The senders whose messages are taken: networks, or this machine alone where none is named.</summary>
public sealed class SyslogSenders(IReadOnlyList<IPNetwork> networks)
{
    public bool Allows(IPAddress sender)
    {
        if (sender.IsIPv4MappedToIPv6)
            sender = sender.MapToIPv4();
        return networks.Count == 0 ? IPAddress.IsLoopback(sender) : networks.Any(n => n.Contains(sender));
    }

    public static SyslogSenders Of(ServiceSettings settings) => new([.. settings.SyslogNetworks.Select(n => IPNetwork.Parse(n))]);
}
