using System.Collections.Immutable;
using IronKeep.Core.Watching.Logs;
using IronKeep.Stores.Posix;
using NodaTime;

namespace IronKeep.Following;

/// <summary>
/// A run that was found in a log: an id that is the same however often it is read, whether it is over, and the end of its lines.
/// </summary>
public sealed record FoundRun(string Id, LogRun Run, bool IsOver, string Text, bool IsCut);

/// <summary>What one look brought: runs that began or are over, in their order, and what could not be read, in words.</summary>
public sealed record Looked(IReadOnlyList<FoundRun> Runs, IReadOnlyList<string> Problems)
{
    /// <summary>Whether there may be something new to keep.</summary>
    public bool IsTouched { get; init; } = true;

    internal static Looked Nothing { get; } = new([], []) { IsTouched = false };
}

/// <summary>
/// Follows a log by its path, whose name may hold * and ?: files that grow, are renamed, copied and cut short, compressed, or replaced.
/// Knows nothing of jobs and outcomes. Not for several threads. Source: docs/semantics.md, section 9 (Rules for logs).
/// </summary>
public sealed class LogFollower : IDisposable
{
    /// <summary>
    /// Of what was there before it was followed, so much is read at the end of each file (bytes), and predecessors that are not older.
    /// </summary>
    public const long MostBacklog = 64L * 1024 * 1024;
    public static readonly Duration OldestBacklog = Duration.FromDays(31);
    private readonly string pattern;
    private readonly bool isPlain;
    private readonly LogRules rules;
    private readonly DateTimeZone zone;
    private readonly FollowedFolder folder;
    private readonly Dictionary<string, LogStream> streams = [];
    private readonly FollowState before;
    private FileTime listedAt;
    private bool settled;
    private bool begun;

    public LogFollower(string path, LogRules rules, DateTimeZone zone, FollowState before)
    {
        pattern = Path.GetFileName(path);
        (this.rules, this.zone, this.before) = (rules, zone, before);
        isPlain = !pattern.AsSpan().ContainsAny('*', '?');
        folder = new FollowedFolder(Path.GetDirectoryName(path)!);
    }

    /// <summary>What to keep, so that another begins where this one is.</summary>
    public FollowState State => new(streams.ToImmutableDictionary(s => s.Key, s => s.Value.State));

    /// <summary>
    /// Whether a look would find nothing, found out by one question to the file system; false when that takes more. Throws what the file
    /// system says.
    /// </summary>
    public bool IsStill(Instant now) => begun && isPlain && streams.Count == 1 && streams[pattern].IsStill(now);

    /// <summary>Reads what is new. Errors of the folder itself are problems too.</summary>
    public Looked Look(Instant now)
    {
        var (runs, problems, touched) = (new List<FoundRun>(), new List<string>(), !begun);
        try
        {
            if (isPlain)
                Stream(pattern);
            else if (!begun || !settled || folder.Changed != listedAt)
            {
                // What changes within the same moment has the same time.
                listedAt = folder.Changed;
                settled = DateTimeOffset.UtcNow - listedAt.ToDateTimeOffset() > TimeSpan.FromSeconds(2);
                // Files that came of others by rotation are not logs of their own.
                foreach (
                    var entry in folder
                        .List(pattern)
                        .Where(e => FollowedFolder.IsNamed(e.Name, pattern) && !e.IsCompressed && !IsRotated(e.Name))
                )
                    Stream(entry.Name);
            }
            foreach (var name in before.Streams.Keys.Where(n => !begun && FollowedFolder.IsNamed(n, pattern)))
                Stream(name);
            begun = true;
            foreach (var stream in streams.Values)
                Read(stream);
        }
        catch (Exception e) when (e is PosixException or IOException or UnauthorizedAccessException)
        {
            problems.Add($"its folder cannot be read: {e.Message}");
        }
        return !touched && runs.Count + problems.Count == 0 ? Looked.Nothing : new Looked(runs, problems) { IsTouched = touched };

        void Stream(string name)
        {
            if (!streams.ContainsKey(name))
                streams[name] = new LogStream(name, folder, rules, zone, before.Streams.GetValueOrDefault(name, StreamState.Empty));
        }

        void Read(LogStream stream)
        {
            try
            {
                runs.AddRange(stream.Read(now, problems));
                touched |= stream.IsTouched;
            }
            catch (Exception e)
                when (e is PosixException or IOException or UnauthorizedAccessException or InvalidDataException or ZstdSharp.ZstdException)
            {
                problems.Add($"{stream.Name} cannot be read: {e.Message}");
            }
        }
    }

    /// <summary>"name.1", "name-20261129": such names belong to the log before the sign.</summary>
    private static bool IsRotated(string name)
    {
        var dot = name.LastIndexOf('.');
        return dot > 0 && name[(dot + 1)..] is { Length: > 0 and < 4 } number && number.All(char.IsAsciiDigit);
    }

    public void Dispose() => folder.Dispose();
}
