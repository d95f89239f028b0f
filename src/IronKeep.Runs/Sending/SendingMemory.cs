using System.Collections.Immutable;
using System.Text.Json;
using System.Text.Json.Serialization;
using IronKeep.Stores.Chunks;
using IronKeep.Stores.Pooled;
using IronKeep.Stores.Posix;

namespace IronKeep.Runs.Sending;

/// <summary>
/// What a machine remembers of a job's copies in a store that somebody else has at hand: what it sent, and the trees that it made. Only
/// what copies in force hold is counted on without asking; what was sent for a copy that is not, or for a run that made none, is asked for
/// once. Losing it costs sending again, and nothing else. For one run at a time.
/// </summary>
public sealed class SendingMemory : IDisposable
{
    private const int Gone = -1,
        AskAtOnce = 4096,
        WorthIt = 10_000,
        MostRuns = 1_000_000_000,
        MostCopies = 200;
    private readonly string folder;
    private readonly int worthIt;
    private readonly Lock gate = new();
    private Kept kept;
    private SentChunks chunks;
    private KeptListings listings;
    private HashSet<int> good = [];
    private HashSet<int> confirmed = [];
    private int current;

    internal sealed record Kept(int Epoch, ImmutableArray<KeptCopy> Copies, CopyRecord? Newest);

    internal sealed record KeptCopy(int Number, string Id);

    /// <summary>Files with fewer chunks than <paramref name="worthIt"/> are never made smaller.</summary>
    public SendingMemory(string folder, int worthIt = WorthIt)
    {
        (this.folder, this.worthIt) = (folder, worthIt);
        Directory.CreateDirectory(folder, OwnFiles.Folder);
        kept = Read() ?? new Kept(0, [], null);
        foreach (
            var old in Directory.EnumerateFiles(folder).Where(f => !f.EndsWith($".{kept.Epoch}", StringComparison.Ordinal) && f != State)
        )
            File.Delete(old);
        (chunks, listings) = Files(kept.Epoch);
        if (File.Exists(Seen(kept.Epoch)))
            chunks.CopiesFromBytes(File.ReadAllBytes(Seen(kept.Epoch)));
    }

    private string State => Path.Combine(folder, "memory.json");

    /// <summary>The newest copy, with its root as this machine names it; null before there is one.</summary>
    public CopyRecord? Newest => kept.Newest;

    /// <summary>The ids of the copies that are remembered.</summary>
    public IReadOnlyCollection<string> Copies => [.. kept.Copies.Select(c => c.Id)];

    internal KeptListings Listings => listings;

    /// <summary>How many chunks are remembered.</summary>
    public int Count => chunks.Count;

    /// <summary>
    /// Begins a run: what the copies in force hold is counted on, and what is in doubt is asked for by <paramref name="has"/>.
    /// </summary>
    public void Begin(IReadOnlySet<string> inForce, Func<ReadOnlyMemory<byte>, byte[]> has)
    {
        confirmed = [];
        good = [.. kept.Copies.Where(c => inForce.Contains(c.Id)).Select(c => c.Number)];
        var last = kept.Copies.Select(c => c.Number).Where(n => n < MostRuns).DefaultIfEmpty().Max();
        var doubtful = new List<int>();
        for (var i = 0; i < chunks.Count; i++)
        {
            var copy = chunks.CopyOf(i);
            // A number beyond these was never given: the file is damaged there.
            last = Math.Max(last, copy < MostRuns ? copy : 0);
            if (copy != Gone && !good.Contains(copy))
                doubtful.Add(i);
        }
        // A number that no run had, not even one that broke off.
        current = last + 1;
        foreach (var some in doubtful.Chunk(AskAtOnce))
        {
            var told = new byte[some.Length * ChunkId.Size];
            for (var i = 0; i < some.Length; i++)
                chunks.At(some[i]).Told.Write(told.AsSpan(i * ChunkId.Size));
            var answer = has(told);
            for (var i = 0; i < some.Length; i++)
                if (i < answer.Length && answer[i] == 1)
                    confirmed.Add(some[i]);
                else
                    chunks.SetCopy(some[i], Gone);
        }
    }

    /// <summary>Whether a chunk is there; it is one of this copy from then on.</summary>
    public bool CountsOn(ChunkId print, int depth)
    {
        if (Number(print) is not (>= 0 and var number))
            return false;
        if (chunks.CopyOf(number) == current)
            return true;
        // What a list names stays known as long as the list does.
        if (depth > 0 && !ListCounts(print, depth))
            return false;
        chunks.SetCopy(number, current);
        return true;
    }

    private bool ListCounts(ChunkId list, int depth)
    {
        try
        {
            using var source = new KeptSource(listings);
            var bytes = source.Read(list);
            for (var at = 0; at + ChunkId.Size <= bytes.Length; at += ChunkId.Size)
                if (!CountsOn(ChunkId.Read(bytes[at..]), depth - 1))
                    return false;
            return true;
        }
        catch (Stores.StoreDamageException)
        {
            return false;
        }
    }

    /// <summary>The length of a chunk that can be counted on, else 0.</summary>
    public int LengthOf(ChunkId print) => Number(print) is >= 0 and var number ? chunks.At(number).Length : 0;

    /// <summary>What this machine was told of a chunk that is there; false for one that is not, or is on its way.</summary>
    public bool TryTold(ChunkId print, out ChunkId told)
    {
        var number = Number(print);
        told = number >= 0 ? chunks.At(number).Told : default;
        return number >= 0;
    }

    /// <summary>A chunk arrived, and is known by what was told of it.</summary>
    public void Arrived(ChunkId print, ChunkId told, int length) => chunks.Add(print, told, length, current);

    /// <summary>A copy was made: what it holds is counted on from now on.</summary>
    public void Commit(CopyRecord record)
    {
        lock (gate)
        {
            // What was asked for and is not of this copy is not asked for again.
            foreach (var number in confirmed.Where(n => chunks.CopyOf(n) != current))
                chunks.SetCopy(number, Gone);
            chunks.Flush();
            listings.Flush();
            var copies = kept.Copies.Add(new KeptCopy(current, record.Id));
            copies = [.. copies.Skip(Math.Max(0, copies.Length - MostCopies))];
            DurableFile.Write(Seen(kept.Epoch), chunks.CopiesToBytes());
            kept = kept with { Copies = copies, Newest = record };
            Save();
            var live = Enumerable.Range(0, chunks.Count).Count(IsLive);
            if (chunks.Count > worthIt && live < chunks.Count / 2)
                MakeSmaller();
        }
    }

    private bool IsLive(int number) => chunks.CopyOf(number) is var copy && (copy == current || good.Contains(copy));

    /// <summary>Goes on in new files that hold what is counted on alone.</summary>
    private void MakeSmaller()
    {
        var (fewer, shorter) = Files(kept.Epoch + 1);
        using (var source = new KeptSource(listings))
        {
            for (var i = 0; i < chunks.Count; i++)
                if (IsLive(i))
                {
                    var (print, told, length) = chunks.At(i);
                    fewer.Add(print, told, length, chunks.CopyOf(i));
                }
            foreach (var print in listings.Prints.Where(p => fewer.NumberOf(p) >= 0))
                shorter.Add(print, source.Read(print));
        }
        fewer.Flush();
        shorter.Flush();
        DurableFile.Write(Seen(kept.Epoch + 1), fewer.CopiesToBytes());
        var old = kept.Epoch;
        kept = kept with { Epoch = old + 1 };
        Save();
        Dispose();
        (chunks, listings) = (fewer, shorter);
        foreach (var file in (string[])["chunks", "listings", "seen"])
            File.Delete(Path.Combine(folder, $"{file}.{old}"));
    }

    public void Dispose()
    {
        chunks.Dispose();
        listings.Dispose();
    }

    private int Number(ChunkId print) =>
        chunks.NumberOf(print) is >= 0 and var number && (IsLive(number) || confirmed.Contains(number)) ? number : -1;

    private (SentChunks, KeptListings) Files(int epoch) =>
        (new SentChunks(Path.Combine(folder, $"chunks.{epoch}")), new KeptListings(Path.Combine(folder, $"listings.{epoch}")));

    private string Seen(int epoch) => Path.Combine(folder, $"seen.{epoch}");

    private void Save() => DurableFile.Write(State, JsonSerializer.SerializeToUtf8Bytes(kept, SendingJson.Default.Kept));

    private static bool IsWhole(CopyRecord? record) =>
        record is null
        || record is { Id: not null, Root.IsDefault: false, Depth: >= 0 and <= ContentRef.MostDepth }
            && record.Root.All(r => r is { Length: 2 * ChunkId.Size } && r.All(char.IsAsciiHexDigit));

    private Kept? Read()
    {
        try
        {
            return
                File.Exists(State)
                && JsonSerializer.Deserialize(File.ReadAllBytes(State), SendingJson.Default.Kept) is { Copies.IsDefault: false } read
                && !read.Copies.Any(c => c?.Id is null)
                && IsWhole(read.Newest)
                ? read
                : null;
        }
        catch (JsonException)
        {
            return null;
        }
    }
}

[JsonSerializable(typeof(SendingMemory.Kept))]
internal sealed partial class SendingJson : JsonSerializerContext;

/// <summary>Reads listings that are kept on this machine.</summary>
internal sealed class KeptSource(KeptListings listings) : Stores.Sessions.IChunkSource
{
    private readonly Stores.Packs.Zstd zstd = new();

    public ReadOnlySpan<byte> Read(ChunkId id) => listings.Read(id, zstd);

    public IEnumerable<ChunkId> Ids(ContentRef content)
    {
        if (content.Depth == 0)
            return content.Ids;
        if (content.Depth is < 0 or > ContentRef.MostDepth)
            throw new Stores.StoreDamageException("a reference to content is nested deeper than any content needs");
        return content.Ids.SelectMany(list => Ids(new ContentRef(content.Depth - 1, IdsIn(list))));
    }

    private ImmutableArray<ChunkId> IdsIn(ChunkId list)
    {
        var bytes = Read(list);
        if (bytes.Length % ChunkId.Size != 0)
            throw new Stores.StoreDamageException("a list of identities that is kept on this machine is none");
        var ids = ImmutableArray.CreateBuilder<ChunkId>(bytes.Length / ChunkId.Size);
        for (var at = 0; at < bytes.Length; at += ChunkId.Size)
            ids.Add(ChunkId.Read(bytes[at..]));
        return ids.MoveToImmutable();
    }

    public void Dispose() => zstd.Dispose();
}
