using System.Text;

namespace IronKeep.Stores.Trees;

/// <summary>
/// File names are bytes; people and JSON want text. Valid UTF-8 stays as it is; a backslash is doubled, and control characters
/// and bytes that are not UTF-8 become <c>\xNN</c>. Reading gives the same bytes back.
/// </summary>
public static class NameText
{
    public static string Show(ReadOnlySpan<byte> name)
    {
        var text = new StringBuilder(name.Length);
        while (name.Length > 0)
        {
            var status = Rune.DecodeFromUtf8(name, out var rune, out var used);
            if (status == System.Buffers.OperationStatus.Done && !Rune.IsControl(rune))
            {
                if (rune.Value == '\\')
                    text.Append('\\');
                text.Append(rune.ToString());
            }
            else
            {
                foreach (var b in name[..used])
                    text.Append(System.Globalization.CultureInfo.InvariantCulture, $"\\x{b:x2}");
            }
            name = name[used..];
        }
        return text.ToString();
    }

    /// <summary>The bytes of a shown name or path; null when an escape is not complete.</summary>
    public static byte[]? Read(string text)
    {
        var bytes = new List<byte>(text.Length);
        Span<byte> utf8 = stackalloc byte[4];
        for (var i = 0; i < text.Length; i++)
        {
            if (text[i] != '\\')
            {
                if (!Rune.TryGetRuneAt(text, i, out var rune))
                    return null;
                bytes.AddRange(utf8[..rune.EncodeToUtf8(utf8)]);
                i += rune.Utf16SequenceLength - 1;
            }
            else if (i + 1 < text.Length && text[i + 1] == '\\')
            {
                bytes.Add((byte)'\\');
                i++;
            }
            else if (
                i + 3 < text.Length
                && text[i + 1] == 'x'
                && byte.TryParse(text.AsSpan(i + 2, 2), System.Globalization.NumberStyles.AllowHexSpecifier, null, out var b)
            )
            {
                bytes.Add(b);
                i += 3;
            }
            else
                return null;
        }
        return [.. bytes];
    }

    /// <summary>The names along a shown path, without empty ones; null when the text cannot be read.</summary>
    public static List<byte[]>? ReadPath(string path)
    {
        var names = new List<byte[]>();
        foreach (var part in path.Split('/', StringSplitOptions.RemoveEmptyEntries))
        {
            if (Read(part) is not { } name)
                return null;
            names.Add(name);
        }
        return names;
    }
}
