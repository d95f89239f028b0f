using System.Text.RegularExpressions;

namespace IronKeep.Core.Charters;

/// <summary>
/// A folder on an SSH server: <c>sftp://user@host:port/folder</c>. <paramref name="HostKey"/> is the fingerprint of the server's key
/// ("SHA256:…"), <paramref name="LoginKey"/> the file with the private key to sign in with.
/// </summary>
public sealed partial record RemoteFolder(string User, string Host, int Port, string Folder, string HostKey, string LoginKey)
{
    private const string Scheme = "sftp://";
    private const int UsualPort = 22;

    /// <summary>Whether a text is meant as such an address.</summary>
    public static bool IsMeant(string text) => text.StartsWith(Scheme, StringComparison.OrdinalIgnoreCase);

    /// <summary>Reads an address; null when it is not one.</summary>
    public static RemoteFolder? Read(string text, string hostKey, string loginKey)
    {
        var match = Shape().Match(text);
        if (!match.Success)
            return null;
        var port = match.Groups["port"].Success
            ? int.Parse(match.Groups["port"].Value, System.Globalization.CultureInfo.InvariantCulture)
            : UsualPort;
        return port is < 1 or > 65535
            ? null
            : new RemoteFolder(
                match.Groups["user"].Value,
                match.Groups["host"].Value,
                port,
                match.Groups["folder"].Value,
                hostKey,
                loginKey
            );
    }

    /// <summary>Reads the address of a server without a folder: all of it is meant. Null when it is not one.</summary>
    public static RemoteFolder? ReadServer(string text, string hostKey, string loginKey) =>
        Read(text.TrimEnd('/') + "/-", hostKey, loginKey) is { Folder: "/-" } server ? server with { Folder = "/" } : null;

    /// <summary>The address without the folder.</summary>
    public string Server =>
        string.Create(System.Globalization.CultureInfo.InvariantCulture, $"{Scheme}{User}@{Host}{(Port == UsualPort ? "" : $":{Port}")}");

    /// <summary>A fingerprint as ssh-keygen prints it: SHA256 and 43 characters of base64.</summary>
    public static bool IsFingerprint(string text) => Fingerprint().IsMatch(text);

    [GeneratedRegex("^sftp://(?<user>[^@/:]+)@(?<host>[^@/:]+|\\[[0-9a-fA-F:]+\\])(:(?<port>[0-9]{1,5}))?(?<folder>/[^\\s]+)$")]
    private static partial Regex Shape();

    [GeneratedRegex("^SHA256:[A-Za-z0-9+/]{43}=?$")]
    private static partial Regex Fingerprint();
}
