using System.Text;

namespace IronKeep.Stores.Posix;

/// <summary>This process as the system sees it.</summary>
public static unsafe class Processes
{
    /// <summary>
    /// Goes on as another program with these words, the first being its name; does not return when that can be. Under the same number, so
    /// whoever started this one waits for that.
    /// </summary>
    public static void GoOnAs(string program, IReadOnlyList<string> words)
    {
        byte[][] texts = [.. words.Prepend(program).Select(w => Encoding.UTF8.GetBytes(w + "\0"))];
        var lengths = texts.Sum(t => t.Length);
        var bytes = new byte[lengths];
        var starts = stackalloc byte*[words.Count + 1];
        fixed (byte* at = bytes)
        {
            var next = 0;
            for (var i = 0; i < texts.Length; i++)
            {
                texts[i].CopyTo(bytes, next);
                if (i > 0)
                    starts[i - 1] = at + next;
                else
                    starts[words.Count] = null;
                next += texts[i].Length;
            }
            _ = Native.Execute(at, starts);
        }
    }
}
