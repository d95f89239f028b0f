using System.Collections.Immutable;
using System.Globalization;
using System.Text;

namespace IronKeep.Core.Charters;

/// <summary>Writes a charter as YAML 1.2 text that <see cref="CharterReader"/> reads back to an equal charter.</summary>
public static class CharterWriter
{
    public static string Write(Charter charter) => Write(CharterFields.Of(charter), CharterFields.Objects(charter));

    /// <summary>The text from fields, which need not make a sound charter.</summary>
    public static string Write(
        ImmutableArray<CharterField> top,
        IEnumerable<(string Kind, string Name, ImmutableArray<CharterField> Fields)> objects
    )
    {
        var text = new StringBuilder();
        text.Append(CultureInfo.InvariantCulture, $"charter: {Charter.Version}\n");
        foreach (var field in top)
            Put(text, field, "");
        var byKind = objects.ToLookup(o => o.Kind);
        foreach (var (kind, section) in CharterFields.Sections)
        {
            if (!byKind[kind].Any())
                continue;
            text.Append(CultureInfo.InvariantCulture, $"\n{section}:\n");
            foreach (var (_, name, fields) in byKind[kind])
                text.Append(Object(name, fields));
        }
        return text.ToString();
    }

    /// <summary>Fields alone, as they stand in a file of their own.</summary>
    public static string Alone(ImmutableArray<CharterField> fields)
    {
        var text = new StringBuilder();
        foreach (var field in fields)
            Put(text, field, "");
        return text.ToString();
    }

    /// <summary>One object as it stands below its section.</summary>
    public static string Object(string name, ImmutableArray<CharterField> fields)
    {
        var text = new StringBuilder();
        // A name with nothing below it would be read as a value that is missing.
        text.Append(CultureInfo.InvariantCulture, $"  {Quote(name)}:{(fields.Length == 0 ? " {}" : "")}\n");
        foreach (var field in fields)
            Put(text, field, "    ");
        return text.ToString();
    }

    private static void Put(StringBuilder text, CharterField field, string indent)
    {
        if (!field.IsList)
            text.Append(CultureInfo.InvariantCulture, $"{indent}{field.Key}: {Quote(field.Values[0])}\n");
        else if (field.Values.Length == 1)
            text.Append(CultureInfo.InvariantCulture, $"{indent}{field.Key}: {Quote(field.Values[0])}\n");
        else
        {
            text.Append(CultureInfo.InvariantCulture, $"{indent}{field.Key}:\n");
            foreach (var value in field.Values)
                text.Append(CultureInfo.InvariantCulture, $"{indent}  - {Quote(value)}\n");
        }
    }

    /// <summary>Plain where YAML reads it back as the same text, double-quoted where it would not.</summary>
    private static string Quote(string text)
    {
        var plain =
            text.Length > 0
            && (char.IsAsciiLetter(text[0]) || text[0] == '/' || (char.IsAsciiDigit(text[0]) && text.Any(char.IsAsciiLetter)))
            && text.All(c => char.IsAsciiLetterOrDigit(c) || " /-_.,+".Contains(c))
            && text[^1] != ' '
            && text.ToLowerInvariant() is not ("true" or "false" or "null" or "yes" or "no" or "on" or "off");
        if (plain || IsTimeSentence(text) || (text.Length is > 0 and < 10 && text.All(char.IsAsciiDigit)))
            return text;
        var quoted = new StringBuilder("\"");
        foreach (var c in text)
        {
            quoted.Append(
                c switch
                {
                    '"' => "\\\"",
                    '\\' => "\\\\",
                    '\n' => "\\n",
                    '\t' => "\\t",
                    < ' ' or (char)0x7f or (char)0x85 or (char)0x2028 or (char)0x2029 => "\\u"
                        + ((int)c).ToString("x4", CultureInfo.InvariantCulture),
                    _ => c.ToString(),
                }
            );
        }
        return quoted.Append('"').ToString();
    }

    // A colon between digits, as in "daily at 23:00", is plain text to YAML.
    private static bool IsTimeSentence(string text) =>
        text.Length > 0
        && char.IsAsciiLetter(text[0])
        && text.All(c => char.IsAsciiLetterOrDigit(c) || " ,-:".Contains(c))
        && !text.Contains(": ")
        && text[^1] is not (':' or ' ');
}
