using System.Text;

namespace IronKeep.Following.Syslog;

/// <summary>
/// One message of syslog: who sent it as it says itself, the program's name, and the text on one line. The host is null where the message
/// names none. What cannot be read is null, never an error: anybody can send anything. Sources: RFC 5424 (section 6), and RFC 3164 (section
/// 4) for the older form.
/// </summary>
public sealed record SyslogMessage(string? Host, string App, string Text)
{
    /// <summary>A longer message is cut here (bytes).</summary>
    public const int MostBytes = 64 * 1024;
    private const int MostName = 255,
        MostPriority = 191;
    private static readonly string[] Months = ["Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec"];

    public static SyslogMessage? Read(ReadOnlySpan<byte> bytes)
    {
        if (bytes.Length > MostBytes)
            bytes = bytes[..MostBytes];
        var text = Encoding.UTF8.GetString(bytes).TrimEnd('\0', '\r', '\n', ' ');
        var rest = text.AsSpan();
        if (!TakePriority(ref rest))
            return null;
        return rest.StartsWith("1 ") ? New(rest[2..]) : Old(rest);
    }

    private static bool TakePriority(ref ReadOnlySpan<char> rest)
    {
        if (rest.IsEmpty || rest[0] != '<')
            return !rest.IsEmpty;
        var end = rest.IndexOf('>');
        if (
            end is < 2 or > 4
            || !int.TryParse(rest[1..end], System.Globalization.NumberStyles.None, null, out var priority)
            || priority > MostPriority
        )
            return false;
        rest = rest[(end + 1)..];
        return !rest.IsEmpty;
    }

    /// <summary>TIMESTAMP HOST APP PROCID MSGID STRUCTURED-DATA [MESSAGE]</summary>
    private static SyslogMessage? New(ReadOnlySpan<char> rest)
    {
        if (
            !Word(ref rest, out _)
            || !Word(ref rest, out var host)
            || !Word(ref rest, out var app)
            || !Word(ref rest, out _)
            || !Word(ref rest, out _)
        )
            return null;
        if (!SkipData(ref rest))
            return null;
        // A message in UTF-8 may say so by a mark.
        return Made(host == "-" ? null : host, app == "-" ? "" : app, rest.TrimStart('\uFEFF'));
    }

    private static bool Word(ref ReadOnlySpan<char> rest, out string word)
    {
        var end = rest.IndexOf(' ');
        word = end < 0 ? "" : rest[..end].ToString();
        if (end <= 0)
            return false;
        rest = rest[(end + 1)..];
        return true;
    }

    /// <summary>"-", or elements in brackets whose values may hold escaped brackets and quotes.</summary>
    private static bool SkipData(ref ReadOnlySpan<char> rest)
    {
        if (rest.StartsWith("-"))
        {
            rest = rest[1..];
            if (rest.StartsWith(" "))
                rest = rest[1..];
            return true;
        }
        while (rest.StartsWith("["))
        {
            var (at, quoted) = (1, false);
            for (; at < rest.Length && (quoted || rest[at] != ']'); at++)
            {
                if (rest[at] == '\\' && quoted)
                    at++;
                else if (rest[at] == '"')
                    quoted = !quoted;
            }
            if (at >= rest.Length)
                return false;
            rest = rest[(at + 1)..];
        }
        if (!rest.IsEmpty && rest[0] != ' ')
            return false;
        rest = rest.IsEmpty ? rest : rest[1..];
        return true;
    }

    /// <summary>[Mmm dd hh:mm:ss HOST] TAG[PID]: MESSAGE; senders leave out time and host, or the host alone.</summary>
    private static SyslogMessage? Old(ReadOnlySpan<char> rest)
    {
        string? host = null;
        if (HasTime(rest))
        {
            rest = rest[15..].TrimStart(' ');
            var space = rest.IndexOf(' ');
            // A tag ends with a colon or a bracket, a host with neither.
            if (space > 0 && rest[..space] is var first && first[^1] != ':' && !first.Contains('['))
            {
                host = first.ToString();
                rest = rest[(space + 1)..];
            }
        }
        var end = rest.IndexOfAny(" :[");
        if (end < 0)
            end = rest.Length;
        var app = rest[..end].ToString();
        var message = rest[end..];
        if (message.StartsWith("[") && message.IndexOf(']') is > 0 and var close)
            message = message[(close + 1)..];
        if (message.StartsWith(":"))
            message = message[1..];
        return Made(host, app, message.TrimStart(' '));
    }

    private static bool HasTime(ReadOnlySpan<char> text) =>
        text.Length > 15
        && text[3] == ' '
        && text[6] == ' '
        && text[9] == ':'
        && text[12] == ':'
        && text[15] == ' '
        && Array.IndexOf(Months, text[..3].ToString()) >= 0;

    private static SyslogMessage? Made(string? host, string app, ReadOnlySpan<char> text) =>
        app.Length is 0 or > MostName || host?.Length > MostName
            ? null
            : new SyslogMessage(host, app, text.ToString().Replace('\n', ' ').Replace('\r', ' '));
}
