namespace IronKeep.Core.Watching.Logs;

/// <summary>The end of the text of a run, so many characters and no more.</summary>
public sealed class LogText
{
    public const int Most = 64 * 1024;
    private char[] kept = [];
    private int length;
    private bool cut;

    /// <summary>Whether there was more before.</summary>
    public bool IsCut => cut || length > Most;

    internal void Clear() => (length, cut) = (0, false);

    internal void AddLine(ReadOnlySpan<char> line)
    {
        Add(line);
        Add("\n");
    }

    internal void Add(ReadOnlySpan<char> text)
    {
        if (text.Length > Most)
        {
            text = text[^Most..];
            cut = true;
        }
        var wanted = Math.Min(2 * Most, Math.Max(1024, length + text.Length));
        if (kept.Length < wanted)
            Array.Resize(ref kept, Math.Min(2 * Most, Math.Max(wanted, 2 * kept.Length)));
        if (length + text.Length > kept.Length)
        {
            var stays = Most - text.Length;
            kept.AsSpan(length - stays, stays).CopyTo(kept);
            (length, cut) = (stays, true);
        }
        text.CopyTo(kept.AsSpan(length));
        length += text.Length;
    }

    public override string ToString() => new(kept, Math.Max(0, length - Most), Math.Min(Most, length));
}
