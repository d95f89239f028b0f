using IronKeep.Catalogue;
using IronKeep.Core.Charters;
using IronKeep.Core.Quantities;

namespace IronKeep.Service.Basics;

/// <summary>
/// Settings of the service, from <c>appsettings.json</c> beside the program, the file named by <c>--config</c> or <c>IRONKEEP_CONFIG</c>,
/// the environment (<c>IRONKEEP__DATAFOLDER</c>) or the command line (<c>--IronKeep:DataFolder</c>); the later wins. Each is
/// documented in docs/operating.md.
/// </summary>
public sealed class ServiceSettings
{
    public const string Section = "IronKeep";

    /// <summary>Where the catalogue, keys and logs lie. Absolute.</summary>
    public string DataFolder { get; set; } = "/var/lib/ironkeep";

    /// <summary>
    /// Where the catalogue is: the absolute path of a SQLite file, or a PostgreSQL connection string; empty: in the data folder.
    /// </summary>
    public string Catalogue { get; set; } = "";

    /// <summary>The address to listen on. Loopback by default; anything else belongs behind TLS.</summary>
    public string Listen { get; set; } = "http://127.0.0.1:7420";

    /// <summary>
    /// The host names under which the service may be called, separated by semicolons; empty: this machine's, and any where it listens
    /// outside loopback without them.
    /// </summary>
    public string Hosts { get; set; } = "";

    /// <summary>
    /// The addresses of proxies before the service, separated by commas: what they say of the caller and of TLS is believed.
    /// </summary>
    public string TrustedProxies { get; set; } = "";

    /// <summary>
    /// The certificate (PEM, with its chain) and the private key with which the service itself speaks TLS; read anew when they change.
    /// </summary>
    public string CertificateFile { get; set; } = "";
    public string CertificateKeyFile { get; set; } = "";

    /// <summary>
    /// The address that agents of other machines reach, over TLS alone, such as https://0.0.0.0:7421; empty: the service has none.
    /// </summary>
    public string AgentListen { get; set; } = "";

    /// <summary>
    /// How agents are told to reach it, where that is not the address to listen on: https://, a name or an address, and a port.
    /// </summary>
    public string AgentAddress { get; set; } = "";

    /// <summary>
    /// The certificate and private key (PEM) that agents know the service by; empty: the service makes its own in the data folder. A
    /// certificate may be renewed, its key must stay the same: machines joined to that.
    /// </summary>
    public string AgentCertificateFile { get; set; } = "";
    public string AgentCertificateKeyFile { get; set; } = "";

    /// <summary>
    /// Addresses to listen on for syslog, separated by commas: udp://, tcp:// or tls:// with an address and a port; empty: not at all.
    /// </summary>
    public string SyslogListen { get; set; } = "";

    /// <summary>The senders whose syslog is taken, as addresses or networks separated by commas; empty: this machine alone.</summary>
    public string SyslogFrom { get; set; } = "";

    /// <summary>
    /// The folder with the commands that a channel may run; absolute. Neither it nor what lies in it may be writable for others.
    /// </summary>
    public string CommandsFolder { get; set; } = "/etc/ironkeep/commands";

    /// <summary>The file that lists the commands that jobs may run as steps on the service's own machine; absolute.</summary>
    public string AllowedCommands { get; set; } = "/etc/ironkeep/agent.yaml";

    /// <summary>The file with the token for the figures at /metrics; empty: none are given out.</summary>
    public string MetricsTokenFile { get; set; } = "";

    /// <summary>
    /// The address of a collector that takes traces and figures over OTLP (HTTP, protobuf), such as http://127.0.0.1:4318; empty: nothing
    /// is sent.
    /// </summary>
    public string TelemetryTo { get; set; } = "";

    /// <summary>The file with the bearer token that goes along to the collector; empty: none does.</summary>
    public string TelemetryTokenFile { get; set; } = "";

    /// <summary>The name of the machine that the service runs on. The catalogue keeps the first.</summary>
    public string Machine { get; set; } = DefaultMachine();

    /// <summary>How many runs may work at once.</summary>
    public int RunsAtOnce { get; set; } = 2;

    /// <summary>After how long without a sign of life of the service itself its silence is told, as a span: "15 minutes".</summary>
    public string Silence { get; set; } = "15 minutes";

    /// <summary>How many days the logs of runs are kept.</summary>
    public int RunLogDays { get; set; } = 180;

    /// <summary>The largest size of one of the service's own log files, in megabytes.</summary>
    public int LogFileMegabytes { get; set; } = 20;

    /// <summary>How many of the service's own log files are kept.</summary>
    public int LogFiles { get; set; } = 14;

    /// <summary>The folder with the built console; empty: beside the program.</summary>
    public string ConsoleFolder { get; set; } = "";

    /// <summary>Whether the clock loop ticks by itself; off where something else drives it.</summary>
    public bool Ticking { get; set; } = true;

    /// <summary><see cref="Silence"/> as a span.</summary>
    public Span SilenceLimit => Span.TryParse(Silence, out var span, out _) ? span : new Span(15, SpanUnit.Minutes);

    /// <summary>The catalogue's path or connection string.</summary>
    public string CatalogueAt => Catalogue.Length > 0 ? Catalogue : Path.Combine(DataFolder, "catalogue.db");

    /// <summary>Whether other services may work on the same catalogue.</summary>
    public bool CatalogueIsShared => CatalogueKinds.IsPostgres(Catalogue);

    internal string[] SyslogAddresses => SyslogListen.Split(',', StringSplitOptions.RemoveEmptyEntries | StringSplitOptions.TrimEntries);

    /// <summary>The allowed senders as networks: an address is a network of one.</summary>
    internal IEnumerable<string> SyslogNetworks =>
        SyslogFrom
            .Split(',', StringSplitOptions.RemoveEmptyEntries | StringSplitOptions.TrimEntries)
            .Select(f =>
                f.Contains('/') ? f
                : f.Contains(':') ? $"{f}/128"
                : $"{f}/32"
            );

    internal string[] Proxies => TrustedProxies.Split(',', StringSplitOptions.RemoveEmptyEntries | StringSplitOptions.TrimEntries);

    /// <summary>Whether the address to listen on is this machine's own.</summary>
    internal bool IsLoopback => Uri.TryCreate(Listen, UriKind.Absolute, out var uri) && uri.IsLoopback;

    /// <summary>The names of all settings.</summary>
    public static IReadOnlyList<string> Names { get; } =
    [.. typeof(ServiceSettings).GetProperties().Where(p => p.CanWrite).Select(p => p.Name)];

    /// <summary>
    /// Every mistake in the settings, as sentences; <paramref name="given"/> are the names that files and environment use.
    /// </summary>
    public IEnumerable<string> Problems(IEnumerable<string> given)
    {
        foreach (var name in given.Where(g => !Names.Contains(g, StringComparer.OrdinalIgnoreCase)))
        {
            var near = Nearest.To(name, Names);
            yield return $"IronKeep:{name} is not a setting; "
                + $"{(near is null ? $"the settings are {string.Join(", ", Names)}" : $"did you mean '{near}'?")}";
        }
        if (!Path.IsPathRooted(DataFolder))
            yield return $"IronKeep:DataFolder is '{DataFolder}'; give an absolute path";
        if (!Path.IsPathRooted(AllowedCommands))
            yield return $"IronKeep:AllowedCommands is '{AllowedCommands}'; give the absolute path of the file that lists them";
        if (MetricsTokenFile.Length > 0 && !Path.IsPathRooted(MetricsTokenFile))
            yield return $"IronKeep:MetricsTokenFile is '{MetricsTokenFile}'; give the absolute path of a file with a token";
        if (CatalogueProblem is { } wrong)
            yield return wrong;
        foreach (var problem in TelemetryProblems())
            yield return problem;
        if (!Uri.TryCreate(Listen, UriKind.Absolute, out var uri) || uri.Scheme is not ("http" or "https"))
            yield return $"IronKeep:Listen is '{Listen}'; give an address such as http://127.0.0.1:7420";
        if ((CertificateFile.Length > 0) != (CertificateKeyFile.Length > 0))
            yield return "IronKeep:CertificateFile and IronKeep:CertificateKeyFile go together; give both or neither";
        foreach (var file in new[] { CertificateFile, CertificateKeyFile }.Where(f => f.Length > 0 && !File.Exists(f)))
            yield return $"the file {file} does not exist; IronKeep:CertificateFile and IronKeep:CertificateKeyFile name a certificate and "
                + $"its key, both as PEM";
        if (uri?.Scheme == "https" && CertificateFile.Length == 0)
            yield return $"IronKeep:Listen is '{Listen}', and a TLS address needs a certificate; give IronKeep:CertificateFile and "
                + $"IronKeep:CertificateKeyFile";
        if (uri?.Scheme == "http" && CertificateFile.Length > 0)
            yield return $"IronKeep:Listen is '{Listen}'; with a certificate write https:// there";
        foreach (var problem in AgentProblems())
            yield return problem;
        foreach (var address in SyslogAddresses)
        {
            if (
                !Uri.TryCreate(address, UriKind.Absolute, out var at)
                || at.Scheme is not ("udp" or "tcp" or "tls")
                || !System.Net.IPAddress.TryParse(at.Host.Trim('[', ']'), out _)
                || at.Port < 0
            )
                yield return $"IronKeep:SyslogListen has '{address}'; write such as udp://127.0.0.1:5514, tcp:// or tls:// likewise, "
                    + $"separated by commas";
            else if (at.Scheme == "tls" && CertificateFile.Length == 0)
                yield return $"IronKeep:SyslogListen has '{address}', and TLS needs a certificate; give IronKeep:CertificateFile and "
                    + $"IronKeep:CertificateKeyFile";
        }
        foreach (var network in SyslogNetworks.Where(n => !System.Net.IPNetwork.TryParse(n, out _)))
            yield return $"IronKeep:SyslogFrom has '{network}', which is no address or network; write such as 10.0.0.5 or 10.0.0.0/24, "
                + $"separated by commas";
        foreach (var proxy in Proxies.Where(p => !System.Net.IPAddress.TryParse(p, out _)))
            yield return $"IronKeep:TrustedProxies has '{proxy}', which is no address; write such as 10.0.0.5, separated by commas";
        if (!Core.Charters.CharterReader.IsName(Machine))
            yield return $"IronKeep:Machine is '{Machine}'; use lower-case letters, digits and hyphens";
        if (RunsAtOnce is < 1 or > 64)
            yield return $"IronKeep:RunsAtOnce is {RunsAtOnce}; give a number from 1 to 64";
        if (!Span.TryParse(Silence, out _, out var silence))
            yield return $"IronKeep:Silence: {silence}";
        if (RunLogDays is < 1 or > 10_000)
            yield return $"IronKeep:RunLogDays is {RunLogDays}; give a number from 1 to 10000";
        if (LogFileMegabytes is < 1 or > 1000)
            yield return $"IronKeep:LogFileMegabytes is {LogFileMegabytes}; give a number from 1 to 1000";
        if (LogFiles is < 1 or > 1000)
            yield return $"IronKeep:LogFiles is {LogFiles}; give a number from 1 to 1000";
        if (ConsoleFolder.Length > 0 && !Directory.Exists(ConsoleFolder))
            yield return $"IronKeep:ConsoleFolder is '{ConsoleFolder}', which does not exist; leave it out, or name the folder with the "
                + $"built console";
    }

    private IEnumerable<string> AgentProblems()
    {
        if (AgentListen.Length > 0 && (!Uri.TryCreate(AgentListen, UriKind.Absolute, out var at) || !IsPlain(at)))
            yield return $"IronKeep:AgentListen is '{AgentListen}'; agents speak TLS only, so write such as https://0.0.0.0:7421";
        if (AgentAddress.Length > 0 && (!Uri.TryCreate(AgentAddress, UriKind.Absolute, out var to) || !IsPlain(to)))
            yield return $"IronKeep:AgentAddress is '{AgentAddress}'; write it as agents reach it, such as https://keep.example:7421";
        if (AgentListen.Length == 0 && (AgentAddress.Length > 0 || AgentCertificateFile.Length > 0 || AgentCertificateKeyFile.Length > 0))
            yield return "IronKeep:AgentListen is not given, so no agent can come; give it, or leave out what else begins with Agent";
        if ((AgentCertificateFile.Length > 0) != (AgentCertificateKeyFile.Length > 0))
            yield return "IronKeep:AgentCertificateFile and IronKeep:AgentCertificateKeyFile go together; give both or neither";
        foreach (var file in new[] { AgentCertificateFile, AgentCertificateKeyFile }.Where(f => f.Length > 0 && !File.Exists(f)))
            yield return $"the file {file} does not exist; IronKeep:AgentCertificateFile and IronKeep:AgentCertificateKeyFile name a "
                + $"certificate and its key, both as PEM";

        static bool IsPlain(Uri uri) => uri is { Scheme: "https", PathAndQuery: "/", UserInfo.Length: 0, Fragment.Length: 0 };
    }

    private IEnumerable<string> TelemetryProblems()
    {
        if (TelemetryTokenFile.Length > 0 && !Path.IsPathRooted(TelemetryTokenFile))
            yield return $"IronKeep:TelemetryTokenFile is '{TelemetryTokenFile}'; give the absolute path of a file with a token";
        if (TelemetryTo.Length == 0)
        {
            if (TelemetryTokenFile.Length > 0)
                yield return "IronKeep:TelemetryTokenFile is given without IronKeep:TelemetryTo; give the collector's address, or "
                    + "leave both out";
            yield break;
        }
        // Never the address itself: what does not belong into it may be a password.
        if (!Uri.TryCreate(TelemetryTo, UriKind.Absolute, out var to) || to.Scheme is not ("http" or "https") || to.UserInfo.Length > 0)
            yield return "IronKeep:TelemetryTo is no address of a collector; write such as http://127.0.0.1:4318, and give a secret in "
                + "the file that IronKeep:TelemetryTokenFile names";
        else if (to.Query.Length > 0 || to.Fragment.Length > 0)
            yield return "IronKeep:TelemetryTo has more than an address and a path; write such as http://127.0.0.1:4318";
        else if (TelemetryTokenFile.Length > 0 && to.Scheme == "http" && !to.IsLoopback)
            yield return $"IronKeep:TelemetryTo is '{TelemetryTo}', and the token would go over the network for all to read; write "
                + "https:// there, or leave IronKeep:TelemetryTokenFile out";
    }

    private string? CatalogueProblem
    {
        get
        {
            if (Catalogue.Length == 0 || Catalogue.StartsWith('/'))
                return null;
            if (!CatalogueKinds.IsPostgres(Catalogue))
                return $"IronKeep:Catalogue is '{Catalogue}'; give the absolute path of a file, or a PostgreSQL connection string such as "
                    + $"Host=db.example;Database=ironkeep;Username=ironkeep";
            try
            {
                _ = CatalogueKinds.ConnectionString(Catalogue);
                return null;
            }
            catch (ArgumentException e)
            {
                // Never the string itself: it may hold a password.
                return $"IronKeep:Catalogue is no PostgreSQL connection string ({e.Message}); write such as "
                    + $"Host=db.example;Database=ironkeep;Username=ironkeep";
            }
        }
    }

    private static string DefaultMachine()
    {
        var name = new string([
            .. Environment.MachineName.ToLowerInvariant().Split('.')[0].Select(c => char.IsAsciiLetterOrDigit(c) ? c : '-'),
        ]).Trim('-');
        return name.Length == 0 ? "machine" : name[..Math.Min(63, name.Length)];
    }
}
