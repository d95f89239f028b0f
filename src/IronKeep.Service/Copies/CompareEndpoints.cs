using System.Diagnostics;
using System.Text;
using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Quantities;
using IronKeep.Service.Basics;
using IronKeep.Service.Stores;
using IronKeep.Stores;
using IronKeep.Stores.Layouts;
using IronKeep.Stores.Places;
using IronKeep.Stores.Pooled;
using IronKeep.Stores.Posix;
using IronKeep.Stores.Trees;
using Microsoft.AspNetCore.Http.HttpResults;

namespace IronKeep.Service.Copies;

/// <summary>What differs between two copies, folder by folder, and the text of a file in one of them.</summary>
public static class CompareEndpoints
{
    private const int MostEntries = 5_000;

    /// <summary>The largest file that is shown as text, in bytes.</summary>
    private const int MostText = 1024 * 1024;

    /// <summary>Shorter than a store's patience (<see cref="OpenStores"/>), so that a large comparison ends with what it has.</summary>
    private static readonly TimeSpan LongEnough = TimeSpan.FromSeconds(10);
    private static readonly UTF8Encoding Strict = new(false, throwOnInvalidBytes: true);

    public static void MapComparisons(this IEndpointRouteBuilder copies)
    {
        copies
            .MapGet("/{id}/differences", CompareAsync)
            .WithSummary(
                "What differs in a folder between two copies of one store, whichever is named first; without a path, where they part"
            );
        copies.MapGet("/{id}/text", TextAsync).WithSummary("A file of a copy as text, where it is text of at most 1 MiB");
    }

    private static async Task<Results<Ok<CopyDifferencesAnswer>, ProblemHttpResult>> CompareAsync(
        string id,
        string with,
        KeepContext db,
        OpenStores stores,
        TimeProvider clock,
        CancellationToken cancel,
        string? path = null,
        string? store = null
    )
    {
        var (one, missing) = await CopyBook.FindAsync(db, id, store, cancel);
        if (one is null)
            return missing!;
        var (other, alsoMissing) = await CopyBook.FindAsync(db, with, one.Store, cancel);
        if (other is null)
        {
            var (elsewhere, nowhere) = await CopyBook.FindAsync(db, with, null, cancel);
            return elsewhere is null
                ? nowhere ?? alsoMissing!
                : Problems.Refused(
                    $"copy {id} is in store {one.Store} and copy {with} in store {elsewhere.Store}; compare two copies of one store"
                );
        }
        if (NameText.ReadPath(path ?? "/") is not { } names)
            return Problems.Invalid($"the path '{path}' cannot be read: a backslash must be doubled or begin \\xNN");
        var (before, after) = one.Taken <= other.Taken ? (one, other) : (other, one);
        try
        {
            return await stores.AskAsync(one.Store, opened => Compare(opened, before, after, path, names, clock, cancel), 2 * LongEnough);
        }
        catch (Exception e) when (e is PlaceException or StoreDamageException or NotSupportedException)
        {
            return Problems.Refused($"copies {before.Id} and {after.Id} cannot be compared: {e.Message}");
        }
    }

    private static Results<Ok<CopyDifferencesAnswer>, ProblemHttpResult> Compare(
        IStoreLayout store,
        Copy before,
        Copy after,
        string? path,
        List<byte[]> names,
        TimeProvider clock,
        CancellationToken cancel
    )
    {
        if (!store.Can.Browses)
            return Problems.Refused(
                $"copies {before.Id} and {after.Id} are files that something else wrote, in a format of its own; restore both and compare "
                    + "what is in them"
            );
        var folders = new TreeEntry?[2];
        foreach (var (copy, i) in new[] { (before, 0), (after, 1) })
        {
            if (store.ReadRecord(copy.Id) is not { } record)
                return Problems.Refused(
                    $"the record of copy {copy.Id} is not in store {copy.Store}; check the store to learn what else is missing"
                );
            folders[i] = store.Find(record, names);
            if (folders[i] is { Kind: not EntryKind.Folder } entry)
                return Problems.Invalid($"'{path}' is a {Kebab.Of(entry.Kind)} in copy {copy.Id}; compare the folder above it");
        }
        if (folders is [null, null])
            return Problems.NotFound($"neither copy {before.Id} nor copy {after.Id} holds '{path}'; look at the folder above it");
        // All of it within one patience: whoever asks a store for longer makes it count as away.
        var watch = Stopwatch.StartNew();
        var found = store.Compare(folders[0], folders[1], MostEntries, LongEnough, cancel);
        // Without a path, down to where the copies part, as far as time allows.
        while (
            path is null
            && found.Entries is [{ Before: { Kind: EntryKind.Folder } was, After: { Kind: EntryKind.Folder } now } only]
            && only.Change == EntryChange.Changed
            && only.Sums is { Unreadable: 0 }
            && found.Complete
            && watch.Elapsed < LongEnough
        )
        {
            var deeper = store.Compare(was, now, MostEntries, LongEnough - watch.Elapsed, cancel);
            // Nothing in it: it is the folder itself that differs, in its owner or mode.
            if (deeper.Entries.Length == 0 || !deeper.Complete)
                break;
            names.Add(now.Name);
            found = deeper;
        }
        var asOf = clock.Now();
        return TypedResults.Ok(
            new CopyDifferencesAnswer(
                before.ToAnswer(asOf),
                after.ToAnswer(asOf),
                "/" + string.Join('/', names.Select(n => NameText.Show(n))),
                [.. found.Entries.Select(ToAnswer)],
                ToAnswer(found.Sums),
                found.Complete
            )
        );
    }

    private static async Task<Results<Ok<FileTextAnswer>, ProblemHttpResult>> TextAsync(
        string id,
        string path,
        KeepContext db,
        OpenStores stores,
        CancellationToken cancel,
        string? store = null
    )
    {
        var (copy, missing) = await CopyBook.FindAsync(db, id, store, cancel);
        if (copy is null)
            return missing!;
        if (NameText.ReadPath(path) is not { } names)
            return Problems.Invalid($"the path '{path}' cannot be read: a backslash must be doubled or begin \\xNN");
        try
        {
            return await stores.AskAsync(copy.Store, opened => Text(opened, copy, path, names, cancel));
        }
        catch (Exception e) when (e is PlaceException or StoreDamageException or NotSupportedException)
        {
            return Problems.Refused($"'{path}' of copy {id} cannot be read: {e.Message}");
        }
    }

    private static Results<Ok<FileTextAnswer>, ProblemHttpResult> Text(
        IStoreLayout store,
        Copy copy,
        string path,
        List<byte[]> names,
        CancellationToken cancel
    )
    {
        if (store.ReadRecord(copy.Id) is not { } record)
            return Problems.Refused(
                $"the record of copy {copy.Id} is not in store {copy.Store}; check the store to learn what else is missing"
            );
        if (store.Find(record, names) is not { } entry)
            return Problems.NotFound($"copy {copy.Id} holds no '{path}'; look at the folder above it");
        if (entry.Kind != EntryKind.File)
            return Problems.Invalid($"'{path}' is a {Kebab.Of(entry.Kind)}, not a file; name a file in it or beside it");
        var shown = "/" + string.Join('/', names.Select(n => NameText.Show(n)));
        if (entry.Size is < 0 or > MostText)
            return TypedResults.Ok(new FileTextAnswer(copy.Id, shown, entry.Size, null, "it is too large to be shown here; restore it"));
        try
        {
            var text = Strict.GetString(store.ReadFile(entry, cancel));
            if (!text.Contains('\0', StringComparison.Ordinal))
                return TypedResults.Ok(new FileTextAnswer(copy.Id, shown, entry.Size, text, null));
        }
        catch (DecoderFallbackException)
        {
            // Said below: what is not UTF-8 is not shown.
        }
        return TypedResults.Ok(new FileTextAnswer(copy.Id, shown, entry.Size, null, "it is not text; restore it to look at it"));
    }

    private static EntryDifferenceAnswer ToAnswer(EntryDifference d) =>
        new(
            NameText.Show((d.After ?? d.Before)!.Name),
            d.Change.Word(),
            d.Before?.Kind.Word(),
            d.After?.Kind.Word(),
            d.Before?.Size,
            d.After?.Size,
            d.Before?.Modified.ToDateTimeOffset(),
            d.After?.Modified.ToDateTimeOffset(),
            ToAnswer(d.Sums)
        );

    private static DifferenceAnswer ToAnswer(DifferenceSums s) =>
        new(s.Added, s.Removed, s.Changed, s.Attributes, s.AddedBytes, s.RemovedBytes, s.ChangedBytes, s.Unreadable);
}
