using System.Text;
using IronKeep.Stores.Posix;

namespace IronKeep.Stores.Restores;

/// <summary>
/// A folder inside the target that only we can enter, on the same file system. Entries are made and finished here and then renamed into
/// their place: whoever owns the target can so put nothing in an entry's way between its making and the last change of its mode or owner.
/// </summary>
internal sealed class Staging : IDisposable
{
    private const string Prefix = ".ironkeep-restoring-";
    private const uint Nobody = 65534,
        Own = 0b111_000_000,
        OwnBits = 0b111_111_111;
    private readonly OpenFolder target;
    private readonly byte[] name;
    private readonly RestoreNotes notes;
    private long names;

    private Staging(OpenFolder target, byte[] name, OpenFolder folder, RestoreNotes notes) =>
        (this.target, this.name, Folder, this.notes) = (target, name, folder, notes);

    public OpenFolder Folder { get; }

    /// <summary>
    /// Makes the folder; refused when somebody put another in its place. What an interrupted restore left in the target is told of.
    /// </summary>
    public static Staging In(OpenFolder target, RestoreNotes notes)
    {
        var there = target.List();
        for (var i = 0; i < there.Count; i++)
        {
            var left = Encoding.UTF8.GetString(there[i]);
            if (left.StartsWith(Prefix, StringComparison.Ordinal) && ProcessMark.IsDead(left[Prefix.Length..]))
                notes.Report(
                    "/" + left,
                    "an earlier restore was interrupted and left this folder; take out of it what is wanted, then delete it"
                );
        }
        var name = Encoding.ASCII.GetBytes($"{Prefix}{ProcessMark.Own}-{Guid.NewGuid():n}");
        target.MakeFolder(name);
        var folder = target.Enter(name);
        var (facts, around) = (folder.Facts(), target.Facts());
        // A server that takes root for nobody makes our folders nobody's.
        var ours = facts.User == Native.EffectiveUser() || facts.User == Nobody && around.User != Nobody;
        if (ours && (facts.Mode & OwnBits) == Own && facts.Device == around.Device)
            return new Staging(target, name, folder, notes);
        folder.Dispose();
        throw new IOException(
            "the folder in which entries are prepared was replaced by somebody at the moment it was made; restore to a folder that nobody "
                + "else can write to"
        );
    }

    /// <summary>A name in the staging folder that nothing else has.</summary>
    public byte[] NewName() => Encoding.ASCII.GetBytes($"e{Interlocked.Increment(ref names)}");

    public void Dispose()
    {
        try
        {
            using (Folder)
            {
                using var again = target.Enter(name);
                var left = again.List();
                for (var i = 0; i < left.Count; i++)
                    if (again.Facts(left[i]) is { Kind: not EntryKind.Folder })
                        again.Remove(left[i]);
            }
            target.RemoveFolder(name);
        }
        catch (IOException e)
        {
            notes.Report(
                "/" + Encoding.ASCII.GetString(name),
                $"the folder in which entries were prepared could not be removed: {e.Message}"
            );
        }
    }
}
