using System.Globalization;
using System.Text;

namespace IronKeep.Core.Charters;

/// <summary>Writes a charter as YAML 1.2 text that <see cref="CharterReader"/> reads back to an equal charter.</summary>
public static class CharterWriter
{
    public static string Write(Charter charter)
    {
        var text = new StringBuilder();
        text.Append(CultureInfo.InvariantCulture, $"charter: {Charter.Version}\nzone: {Quote(charter.Zone.Id)}\n");
        Section(text, "stores", charter.Stores.Values, s => s.Name, s =>
        [
            ("folder", Quote(s.Folder)),
            ("capacity", s.Capacity?.ToExactText()),
            ("reserve", s.Reserve?.ToExactText()),
            ("bin", s.Bin.ToString()),
        ]);
        Section(text, "policies", charter.Policies.Values, p => p.Name, p =>
        [
            ("keep", Quote(p.Keep.ToString())),
            ("at-least", p.AtLeast.ToString(CultureInfo.InvariantCulture)),
            ("zone", p.Zone?.Id),
        ]);
        Section(text, "jobs", charter.Jobs.Values, j => j.Name, j =>
        [
            ("takes", List(j.Takes)),
            ("leaves-out", j.LeavesOut.Length == 0 ? null : List(j.LeavesOut)),
            ("into", j.Into),
            ("when", j.When is null ? null : Quote(j.When.ToSentence())),
            ("zone", j.Zone?.Id),
            ("policy", j.Policy),
            ("fresh-within", j.FreshWithin?.ToString()),
        ]);
        return text.ToString();
    }

    private static void Section<T>(StringBuilder text, string title, IEnumerable<T> items, Func<T, string> name, Func<T, (string Key, string? Value)[]> fields)
    {
        var any = false;
        foreach (var item in items)
        {
            if (!any) text.Append(CultureInfo.InvariantCulture, $"\n{title}:\n");
            any = true;
            text.Append(CultureInfo.InvariantCulture, $"  {Quote(name(item))}:\n");
            foreach (var (key, value) in fields(item))
                if (value is not null) text.Append(CultureInfo.InvariantCulture, $"    {key}: {value}\n");
        }
    }

    private static string List(IEnumerable<string> items) => "\n" + string.Join('\n', items.Select(i => $"      - {Quote(i)}"));

    /// <summary>Plain where YAML reads it back as the same text, double-quoted where it would not.</summary>
    private static string Quote(string text)
    {
        var plain = text.Length > 0 && (char.IsAsciiLetter(text[0]) || text[0] == '/' || (char.IsAsciiDigit(text[0]) && text.Any(char.IsAsciiLetter)))
            && text.All(c => char.IsAsciiLetterOrDigit(c) || " /-_.,+".Contains(c)) && text[^1] != ' '
            && text.ToLowerInvariant() is not ("true" or "false" or "null" or "yes" or "no" or "on" or "off");
        if (plain || IsTimeSentence(text)) return text;
        var quoted = new StringBuilder("\"");
        foreach (var c in text)
        {
            quoted.Append(c switch
            {
                '"' => "\\\"",
                '\\' => "\\\\",
                '\n' => "\\n",
                '\t' => "\\t",
                < ' ' or (char)0x7f or (char)0x85 or (char)0x2028 or (char)0x2029 => "\\u" + ((int)c).ToString("x4", CultureInfo.InvariantCulture),
                _ => c.ToString(),
            });
        }
        return quoted.Append('"').ToString();
    }

    // A colon between digits, as in "daily at 23:00", is plain text to YAML.
    private static bool IsTimeSentence(string text) =>
        text.Length > 0 && char.IsAsciiLetter(text[0])
        && text.All(c => char.IsAsciiLetterOrDigit(c) || " ,-:".Contains(c))
        && !text.Contains(": ") && text[^1] is not (':' or ' ');
}
