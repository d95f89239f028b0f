namespace IronKeep.Service.Hosting;

/// <summary>
/// Settings of the service, from <c>appsettings.json</c>, the environment (<c>IRONKEEP__DATAFOLDER</c>) or the command line
/// (<c>--IronKeep:DataFolder</c>). Documented in docs/operating.md.
/// </summary>
public sealed class ServiceSettings
{
    public const string Section = "IronKeep";

    /// <summary>Where the catalogue, keys and logs lie. Absolute.</summary>
    public string DataFolder { get; set; } = "/var/lib/ironkeep";

    /// <summary>The address to listen on. Loopback by default; anything else belongs behind TLS.</summary>
    public string Listen { get; set; } = "http://127.0.0.1:7420";

    /// <summary>The name of the machine that the service runs on.</summary>
    public string Machine { get; set; } = DefaultMachine();

    /// <summary>How many runs may work at once.</summary>
    public int RunsAtOnce { get; set; } = 2;

    /// <summary>The folder with the built console; empty: beside the program.</summary>
    public string ConsoleFolder { get; set; } = "";

    /// <summary>Whether the clock loop and the dispatch tick by themselves; off where something else drives them.</summary>
    public bool Ticking { get; set; } = true;

    /// <summary>Every mistake in the settings, as sentences.</summary>
    public IEnumerable<string> Problems()
    {
        if (!Path.IsPathRooted(DataFolder)) yield return $"IronKeep:DataFolder is '{DataFolder}'; give an absolute path";
        if (!Uri.TryCreate(Listen, UriKind.Absolute, out var uri) || uri.Scheme is not ("http" or "https")) yield return $"IronKeep:Listen is '{Listen}'; give an address such as http://127.0.0.1:7420";
        if (!Core.Charters.CharterReader.IsName(Machine)) yield return $"IronKeep:Machine is '{Machine}'; use lower-case letters, digits and hyphens";
        if (RunsAtOnce is < 1 or > 64) yield return $"IronKeep:RunsAtOnce is {RunsAtOnce}; give a number from 1 to 64";
    }

    private static string DefaultMachine()
    {
        var name = new string([.. Environment.MachineName.ToLowerInvariant().Split('.')[0].Select(c => char.IsAsciiLetterOrDigit(c) ? c : '-')]).Trim('-');
        return name.Length == 0 ? "machine" : name[..Math.Min(63, name.Length)];
    }
}
