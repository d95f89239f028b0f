using System.Collections.Immutable;
using System.Globalization;
using System.Text;
using IronKeep.Core.Watching;
using IronKeep.Runs.Steps;
using IronKeep.Stores.Chunks;
using IronKeep.Stores.Pooled;
using IronKeep.Stores.Posix;
using IronKeep.Stores.Sessions;
using IronKeep.Stores.Trees;

namespace IronKeep.Runs.Backups;

/// <summary>
/// Takes what commands write to their standard output, one after the other, each as a file in a folder of its own below
/// <see cref="StreamSource.Folder"/>. A command that fails, or gives nothing, is a <see cref="RunFailedException"/>: half a dump is none.
/// </summary>
internal sealed class StreamIntake(
    ICopySession session,
    BackupOrder order,
    StepRunner steps,
    RunFigures figures,
    RunLog log,
    TimeProvider clock,
    CancellationToken cancel
)
{
    private const uint ForOwnerAlone = 0b110_000_000,
        FolderForOwnerAlone = 0b111_000_000;
    private readonly Owners owners = new();

    /// <summary>Does the work and gives the entry of the folder.</summary>
    public TreeEntry Take()
    {
        // The session ends it.
        var lane = session.OpenLane();
        var folders = order
            .Streams.OrderBy(s => Encoding.UTF8.GetBytes(s.Step.Name), ByteOrder.Instance)
            .Select(s => Folder(s.Step.Name, [One(s, lane)]))
            .ToList();
        return Folder(StreamSource.Folder, folders);
    }

    private TreeEntry One(StreamSource stream, IChunkLane lane)
    {
        var step = stream.Step;
        log(LogSeverity.Info, $"step {step.Name} gives {stream.Path}: {string.Join(' ', step.Command)}");
        var surroundings = ImmutableDictionary<string, string>.Empty.Add("IRONKEEP_JOB", order.Job);
        var (begun, problem) = steps.Begin(step, surroundings, log, cancel);
        if (begun is null)
            throw Failed(step, problem!);
        long size;
        List<ChunkId> chunks;
        using (begun)
        using (var intake = new FileIntake(lane, figures))
        {
            chunks = intake.Take(new PipedContent(begun.Output), 0, long.MaxValue, null, out size, cancel);
            problem = begun.EndAsync().GetAwaiter().GetResult();
        }
        if (problem is not null)
            throw Failed(step, problem);
        if (size == 0)
            throw new RunFailedException(
                FailureClass.SourceUnreadable,
                $"step {step.Name} ended well and gave nothing; {stream.KeepsAs} would be empty"
            );
        figures.FileRead();
        figures.Add(1, size);
        figures.Move(-size);
        log(LogSeverity.Info, $"step {step.Name} gave {size.ToString("N0", CultureInfo.InvariantCulture)} bytes");
        return Entry(EntryKind.File, stream.KeepsAs, ForOwnerAlone) with { Size = size, Content = lane.Refer(chunks) };
    }

    private static RunFailedException Failed(RunStep step, string problem) =>
        new(FailureClass.HookFailed, $"step {step.Name}, whose output is taken, {problem}");

    private TreeEntry Folder(string name, IReadOnlyList<TreeEntry> entries)
    {
        var listing = new ListingWriter();
        foreach (var entry in entries)
            listing.Add(entry, session);
        var content = listing.Finish(session);
        return Entry(EntryKind.Folder, name, FolderForOwnerAlone) with
        {
            Size = entries.Sum(e => e.Size),
            Items = entries.Sum(e => e.Kind == EntryKind.Folder ? e.Items : 1),
            Content = content,
        };
    }

    private TreeEntry Entry(EntryKind kind, string name, uint mode)
    {
        var (user, group, now) = (Native.EffectiveUser(), Native.EffectiveGroup(), FileTime.Of(clock.GetUtcNow()));
        return new TreeEntry(
            kind,
            Encoding.UTF8.GetBytes(name),
            mode,
            user,
            group,
            1,
            now,
            now,
            0,
            0,
            0,
            ContentRef.Empty,
            0,
            owners.User(user),
            owners.Group(group),
            0,
            [],
            [],
            null
        );
    }
}
