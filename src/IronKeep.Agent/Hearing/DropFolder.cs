using System.Text;
using System.Text.Json;
using IronKeep.Contracts;
using IronKeep.Core.Machines;
using IronKeep.Core.Watching;
using IronKeep.Stores.Posix;

namespace IronKeep.Agent.Hearing;

/// <summary>
/// The folder in which wrapped commands of this machine leave their reports for the agent. Everybody may leave something there and see
/// nothing of others; what is taken is decided by who owns the file. The rules of the machine's watched jobs lie beside it, to be read by
/// all.
/// </summary>
internal sealed class DropFolder(string folder, HeardReports reports, Func<AllowedCommands> allowed, TextWriter log)
{
    public const string Usual = "/var/spool/ironkeep-agent";
    private const string Rules = "rules",
        Ending = ".json";
    private const long MostReport = 1024 * 1024;
    private const int MostEachTime = 500;

    // Left by a program that was killed while it wrote.
    private static readonly TimeSpan StaleAfter = TimeSpan.FromDays(1);
    private const UnixFileMode ReadByAll = UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.GroupRead | UnixFileMode.OtherRead;
    private const UnixFileMode Search = UnixFileMode.UserExecute | UnixFileMode.GroupExecute | UnixFileMode.OtherExecute;
    private const UnixFileMode WrittenByAll =
        UnixFileMode.StickyBit
        | UnixFileMode.UserRead
        | UnixFileMode.UserWrite
        | UnixFileMode.GroupWrite
        | UnixFileMode.OtherWrite
        | Search;
    private readonly Owners owners = new();
    private readonly HashSet<string> refused = [];
    private string trouble = "";

    /// <summary>Takes what lies there, and puts the rules there that wrapped commands read.</summary>
    public void Look()
    {
        try
        {
            Take();
        }
        catch (Exception e) when (e is PosixException or IOException or UnauthorizedAccessException)
        {
            Say($"Reports that wrapped commands leave in {folder} are not taken: {e.Message}");
        }
    }

    /// <summary>The rules of the machine's watched jobs, and none of others.</summary>
    public void Write(IReadOnlyList<HeardJob> jobs)
    {
        try
        {
            Make();
            var there = Path.Combine(folder, Rules);
            Directory.CreateDirectory(there, OwnFiles.Folder);
            using (var opened = OpenFolder.AtPath(there))
                if (!OwnFiles.IsOurs(opened.Facts()))
                    throw new IOException($"{there} belongs to another, or others may change it; remove it");
            File.SetUnixFileMode(there, ReadByAll | Search);
            var wanted = jobs.Where(j => j.Rules.Length > 0 && IsName(j.Job)).ToDictionary(j => $"{j.Job}.rules", j => j.Rules);
            foreach (var (name, text) in wanted)
            {
                var file = Path.Combine(there, name);
                DurableFile.Write(file, text);
                File.SetUnixFileMode(file, ReadByAll);
            }
            foreach (var file in Directory.GetFiles(there).Where(f => !wanted.ContainsKey(Path.GetFileName(f))))
                File.Delete(file);
        }
        catch (Exception e) when (e is PosixException or IOException or UnauthorizedAccessException)
        {
            Say($"The rules of watched jobs are not kept in {folder}, so commands are judged by the end of what they write: {e.Message}");
        }
    }

    private static bool IsName(string job) => job.Length is > 0 and <= 100 && job.All(c => char.IsAsciiLetterOrDigit(c) || c is '-' or '_');

    private void Say(string what)
    {
        if (what.Length > 0 && what != trouble)
            log.WriteLine(what);
        trouble = what;
    }

    private OpenFolder Make()
    {
        if (!Directory.Exists(folder))
        {
            Directory.CreateDirectory(folder, OwnFiles.Folder);
            File.SetUnixFileMode(folder, WrittenByAll);
        }
        var opened = OpenFolder.AtPath(folder);
        var facts = opened.Facts();
        // Made by us, and nobody let in yet: we were killed between the two.
        if (IsByOwner(facts) && facts.Mode == (uint)OwnFiles.Folder)
            File.SetUnixFileMode(folder, WrittenByAll);
        // Without the sticky bit anybody could put something else in the place of another's report.
        if (OwnFiles.IsOurs(facts) || (IsByOwner(facts) && (facts.Mode & 0b001_000_000_000) != 0))
            return opened;
        opened.Dispose();
        throw new IOException($"{folder} belongs to another, or others may remove what lies there; remove it, and it is made anew");
    }

    /// <summary>Whether it belongs to root or to our own user, whoever else may write there.</summary>
    private static bool IsByOwner(FileFacts facts) => OwnFiles.IsOurs(facts with { Mode = 0 });

    private void Take()
    {
        using var opened = Make();
        var names = opened.List();
        var (taken, problem) = (0, "");
        for (var i = 0; i < names.Count && taken < MostEachTime && !reports.IsFull; i++)
        {
            var name = names[i].ToArray();
            if (opened.Facts(name) is not { Kind: not EntryKind.Folder } facts)
                continue;
            if (!Encoding.UTF8.GetString(name).EndsWith(Ending, StringComparison.Ordinal))
            {
                if (DateTimeOffset.UtcNow - facts.Modified.ToDateTimeOffset() > StaleAfter)
                    opened.Remove(name);
                continue;
            }
            try
            {
                taken++;
                var report = Read(opened, name);
                reports.Put(report);
            }
            catch (Exception e) when (e is InvalidDataException or JsonException)
            {
                Refuse(Encoding.UTF8.GetString(name), e.Message);
            }
            catch (AllowedListException e)
            {
                // Whose reports are taken cannot be told now; those of root and of our own user go on.
                problem = e.Message;
                continue;
            }
            // Put again after a crash it has the same id, and counts once.
            opened.Remove(name);
        }
        Say(problem);
    }

    private HeardReport Read(OpenFolder opened, byte[] name)
    {
        if (opened.Facts(name) is not { Kind: EntryKind.File })
            throw new InvalidDataException("it is no file");
        using var file = opened.OpenFile(name);
        var facts = file.Facts();
        if (facts.Kind != EntryKind.File || facts.Links > 1 || facts.Size > MostReport)
            throw new InvalidDataException("it is no file of its own, or too large for a report");
        if (!IsByOwner(facts) && !Allowed().ReportsFrom.Contains(owners.User(facts.User)))
            throw new InvalidDataException(
                $"it is of user {(owners.User(facts.User) is { Length: > 0 } user ? user : facts.User)}, who does not stand under "
                    + "'reports-from' in this machine's list"
            );
        var (bytes, length) = (new byte[facts.Size], 0);
        while (length < bytes.Length && file.Read(bytes.AsSpan(length), length) is > 0 and var read)
            length += read;
        var left = AgentJson.Read<LeftReport>(Encoding.UTF8.GetString(bytes, 0, length));
        return string.IsNullOrEmpty(left.Job) || left.Request is null
            ? throw new InvalidDataException("it names no job, or says nothing")
            : new HeardReport(left.Job, EvidenceSource.CheckIn, left.Request);
    }

    private AllowedCommands Allowed()
    {
        try
        {
            return allowed();
        }
        catch (IOException e)
        {
            throw new AllowedListException($"Reports of other users in {folder} wait: {e.Message}");
        }
    }

    private sealed class AllowedListException(string message) : Exception(message);

    private void Refuse(string name, string why)
    {
        // Said once each, for whoever leaves thousands must not fill the log.
        if (refused.Count < 100 && refused.Add(why))
            log.WriteLine($"A report in {folder} was not taken and was removed ({name}): {why}");
    }
}

/// <summary>What a wrapped command leaves: its job, and what it says of it.</summary>
internal sealed record LeftReport(string Job, CheckInRequest Request);
