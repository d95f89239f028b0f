using IronKeep.Cli.Client;

namespace IronKeep.Cli.Wrapping;

/// <summary>
/// The way by this machine's agent: wrapped commands leave their reports in a folder of its, and find the rules of its watched jobs there.
/// It is taken where nothing names the service: no check-in address, no sign-in.
/// </summary>
internal static class AgentDrop
{
    private const string Usual = "/var/spool/ironkeep-agent";

    /// <summary>The folder, where this is the way to go; else null.</summary>
    public static string? Folder(string? address, string? url)
    {
        if (address is not null || url is not null || Set("IRONKEEP_URL") is not null || Set("IRONKEEP_TOKEN") is not null)
            return null;
        var folder = Set("IRONKEEP_AGENT_REPORTS") ?? Usual;
        return Directory.Exists(folder) && Credentials.Read() is null ? folder : null;
    }

    /// <summary>Where the rules of a job lie.</summary>
    public static string RulesOf(string folder, string job) => Path.Combine(folder, "rules", $"{job}.rules");

    private static string? Set(string name) => Environment.GetEnvironmentVariable(name) is { Length: > 0 } value ? value : null;
}
