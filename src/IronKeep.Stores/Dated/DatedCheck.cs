using IronKeep.Stores.Places;
using IronKeep.Stores.Pooled;

namespace IronKeep.Stores.Dated;

/// <summary>
/// Verification of dated files: each is read and compared with the sums that lie beside it and with the one that was recorded when it was
/// first read. A file without any is sound from its second reading on.
/// </summary>
public sealed partial class DatedStore
{
    private const int SavedAtOnce = 50;

    public IReadOnlyDictionary<string, long> Parts()
    {
        lock (gate)
        {
            if (version < 0)
                Look();
            return last.Copies.Values.Where(c => !c.IsInBin).ToDictionary(c => c.Id, c => c.Mark.Size);
        }
    }

    /// <summary>Reads files of which no sum is known yet, so that one is from the first days on; until so many bytes are read.</summary>
    public int RecordSums(long budget, CancellationToken cancel)
    {
        var wanted = Last
            .Copies.Values.Where(c => c is { IsInBin: false, IsSteady: true, Mark.Sum: null })
            .OrderByDescending(c => c.Taken)
            .ToList();
        using var root = folder.Open();
        var (recorded, sums) = (new List<FileMark>(), new SumFiles(root));
        foreach (var copy in wanted)
        {
            if (copy.Mark.Size > budget)
                continue;
            budget -= copy.Mark.Size;
            if (ReadOne(root, sums, copy, clock.GetUtcNow(), null, cancel) is { Problem: null } read)
                recorded.Add(read);
        }
        Record(recorded);
        return recorded.Count;
    }

    public CheckReport Check(CheckScope scope, Action<long, long>? progress, CancellationToken cancel)
    {
        var copies = Look()
            .Copies.Values.Where(c => !c.IsInBin)
            .OrderBy(c => scope.LastRead(c.Id) ?? DateTimeOffset.MinValue)
            .ThenBy(c => c.Id, StringComparer.Ordinal)
            .ToList();
        var chosen = scope.Depth == CheckDepth.Presence ? [] : Chosen(copies, scope.Budget);
        var total = chosen.Sum(c => c.Mark.Size);
        using var root = folder.Open();
        var (sums, found, unsaved, done) = (new SumFiles(root), new Dictionary<string, FileMark>(), new List<FileMark>(), 0L);
        foreach (var copy in chosen)
        {
            var before = done;
            var mark = found[copy.Id] = ReadOne(root, sums, copy, scope.Now, read => progress?.Invoke(before + read, total), cancel);
            done += copy.Mark.Size;
            unsaved.Add(mark);
            if (unsaved.Count >= SavedAtOnce)
                Record(unsaved);
        }
        Record(unsaved);
        var hurt = copies
            .Select(c => (Copy: c, (found.GetValueOrDefault(c.Id) ?? c.Mark).Problem))
            .Where(c => c.Problem is not null)
            .ToList();
        var names = hurt.Select(h => h.Copy.Id).ToHashSet();
        return new CheckReport(
            done,
            copies.Sum(c => c.Mark.Size),
            [.. chosen.Select(c => c.Id)],
            copies.Count,
            [
                .. copies
                    .Where(c => !names.Contains(c.Id))
                    .Select(c => new WholeCopy(
                        c.Id,
                        Proved(found.GetValueOrDefault(c.Id) ?? c.Mark, found.ContainsKey(c.Id) ? scope.Now : scope.LastRead(c.Id))
                    )),
            ],
            [.. hurt.Select(h => new PackDamage(h.Copy.Id, h.Problem!, 1))],
            [.. hurt.Select(h => new CopyDamage(h.Copy.Id, [h.Copy.Id], 1))],
            []
        );
    }

    /// <summary>When it was last found to be as it was known to be; null when it was only read for the first time.</summary>
    private static DateTimeOffset? Proved(FileMark mark, DateTimeOffset? read) => mark.Sum is not null && read > mark.SumAt ? read : null;

    private static List<DatedCopy> Chosen(List<DatedCopy> copies, long? budget)
    {
        var chosen = new List<DatedCopy>();
        foreach (var copy in copies)
        {
            if (budget is { } left && left < copy.Mark.Size && chosen.Count > 0)
                break;
            chosen.Add(copy);
            budget -= copy.Mark.Size;
        }
        return chosen;
    }

    private static FileMark ReadOne(
        IDatedRoot root,
        SumFiles sums,
        DatedCopy copy,
        DateTimeOffset now,
        Action<long>? progress,
        CancellationToken cancel
    )
    {
        var mark = copy.Mark;
        if (mark.Changed)
            return mark with { Problem = "it changed after it was complete" };
        try
        {
            var (sum, before, after) = root.Hash(mark.Path, progress, cancel);
            if (!mark.Is(before))
                return mark with { Problem = "it changed since it was last looked at" };
            if (!mark.Is(after))
                return mark with { Problem = "it changed while it was read" };
            var said = sums.Of(mark.Path).ToList();
            if (said.FirstOrDefault(s => s.Sum != sum) is { Sum: not null } other)
                return mark with { Problem = $"its bytes are not those that {other.Where} says: it has {sum}, there stands {other.Sum}" };
            if (mark.Sum is { } recorded && recorded != sum)
                return mark with
                {
                    Problem =
                        $"its bytes are not those that were recorded on {mark.SumAt:yyyy-MM-dd}, though its size and time are the same",
                };
            return mark with { Problem = null, Sum = sum, SumAt = said.Count > 0 ? DateTimeOffset.UnixEpoch : mark.SumAt ?? now };
        }
        // A folder that is out of reach says nothing of its files.
        catch (PlaceException e) when (e.Fault != PlaceFault.Unreachable)
        {
            return mark with { Problem = $"it cannot be read: {e.Message}" };
        }
    }

    /// <summary>Keeps what reading found, of files that are still as they were read.</summary>
    private void Record(List<FileMark> read)
    {
        lock (gate)
        {
            var tries = 0;
            while (
                !Remember([
                    .. read.Where(r => marks.TryGetValue(r.Path, out var now) && now.Size == r.Size && now.Modified == r.Modified)
                        .Select(r => marks[r.Path] with { Sum = r.Sum, SumAt = r.SumAt, Problem = r.Problem }),
                ])
                && ++tries < 5
            )
                Look();
            read.Clear();
        }
    }
}
