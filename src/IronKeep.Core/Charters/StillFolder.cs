using IronKeep.Core.Schedules;

namespace IronKeep.Core.Charters;

/// <summary>
/// Where a moment of a folder is held still: what lies under <paramref name="From"/> is read from <paramref name="At"/>, a snapshot that a
/// step before makes, and appears in the copy as it really lies. Source: docs/semantics.md, section 2 (Planned runs, lateness, catch-up).
/// </summary>
public sealed record StillFolder(string From, string At)
{
    private const string Between = " at ";

    /// <summary>The folder and where it is held, or the problem; exactly one of the two is null.</summary>
    public static (StillFolder? Folder, SentenceProblem? Problem) Read(string sentence)
    {
        var cut = sentence.IndexOf(Between, StringComparison.Ordinal);
        if (cut < 0)
            return (null, new SentenceProblem(0, $"'{sentence.Trim()}' does not say where; write '/srv at /run/ironkeep/still'"));
        var (from, at) = (sentence[..cut].Trim(), sentence[(cut + Between.Length)..].Trim());
        foreach (var (path, position) in ((string, int)[])[(from, 0), (at, cut + Between.Length)])
            if (CharterReader.PathProblem(path) is { } problem)
                return (null, new SentenceProblem(position, problem));
        (from, at) = (CharterReader.Normal(from), CharterReader.Normal(at));
        return from == at
            ? (null, new SentenceProblem(cut + Between.Length, $"{at} is the folder itself, so nothing would be held still"))
            : (new StillFolder(from, at), null);
    }

    public override string ToString() => From + Between + At;

    /// <summary>Whether a path is the folder or lies below it.</summary>
    public bool Holds(string path) =>
        From == "/" || path == From || (path.StartsWith(From, StringComparison.Ordinal) && path[From.Length] == '/');
}
