using System.Globalization;
using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Quantities;
using IronKeep.Core.Watching;
using IronKeep.Service.Alerts;
using IronKeep.Service.Basics;
using IronKeep.Service.Charters;
using IronKeep.Service.Facts;
using IronKeep.Service.Hearing;
using IronKeep.Service.Runs;
using IronKeep.Service.Stores;
using IronKeep.Stores;
using IronKeep.Stores.Layouts;
using IronKeep.Stores.Places;
using IronKeep.Stores.Pooled;
using IronKeep.Stores.Posix;
using IronKeep.Stores.Restores;
using IronKeep.Stores.Trees;
using Microsoft.AspNetCore.Http.HttpResults;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.Options;
using NodaTime;

namespace IronKeep.Service.Copies;

public static class CopyEndpoints
{
    public static void MapCopies(this IEndpointRouteBuilder api)
    {
        var copies = api.MapGroup("/copies");
        copies
            .MapGet("", ListAsync)
            .WithSummary(
                "Copies, newest first, those in the bin included; by job, machine, store, state (also held, suspect, in-bin) and time"
            );
        copies
            .MapGet("/counts", CountsAsync)
            .WithSummary("How many copies there are of each job on each machine in each store, and from when to when");
        copies
            .MapGet("/find", FindAsync)
            .WithSummary("Finds files by name (with * and ?; with a slash, by path) across copies, newest first");
        copies.MapGet("/versions", VersionsAsync).WithSummary("The versions of one path over the copies of a job, newest first");
        copies
            .MapGet(
                "/{id}",
                async Task<Results<Ok<CopyAnswer>, ProblemHttpResult>> (
                    string id,
                    KeepContext db,
                    TimeProvider clock,
                    CancellationToken cancel,
                    string? store = null
                ) =>
                    await CopyBook.FindAsync(db, id, store, cancel) is var (copy, problem) && copy is not null
                        ? TypedResults.Ok(copy.ToAnswer(clock.Now()))
                        : problem!
            )
            .WithSummary("One copy");
        copies.MapPut("/{id}/hold", HoldAsync).WithSummary("Holds a copy: it does not expire until then, and changes no other copy's fate");
        copies
            .MapDelete(
                "/{id}/hold",
                async Task<Results<Ok<CopyAnswer>, ProblemHttpResult>> (
                    string id,
                    KeepContext db,
                    CopyCare care,
                    TimeProvider clock,
                    CancellationToken cancel,
                    string? store = null
                ) =>
                {
                    var (copy, problem) = await CopyBook.FindAsync(db, id, store, cancel);
                    if (copy is null)
                        return problem!;
                    await care.ReleaseAsync(copy, cancel);
                    return TypedResults.Ok(
                        (await CopyBook.Alive(db).FirstAsync(c => c.Id == id && c.Store == copy.Store, cancel)).ToAnswer(clock.Now())
                    );
                }
            )
            .WithSummary("Ends a copy's hold");
        copies.MapPost("/{id}/take-back", TakeBackAsync).WithSummary("Takes a copy back out of the bin");
        copies
            .MapGet("/{id}/entries", BrowseAsync)
            .WithSummary(
                "The entries of a folder in a copy; without a path, of the first folder from the root that holds more than one folder"
            );
        copies
            .MapPost("/{id}/restores", RestoreEndpoints.RestoreAsync)
            .WithSummary("Restores all of a copy, or some paths, to a folder on the service's machine or on one that has an agent");
        copies.MapExports();
        copies.MapComparisons();
    }

    private static async Task<Results<Ok<FindAnswer>, ProblemHttpResult>> FindAsync(
        string name,
        KeepContext db,
        CopySearch search,
        CancellationToken cancel,
        string? job = null,
        string? store = null,
        int limit = 200
    )
    {
        if (name.Trim().Length == 0)
            return Problems.Invalid("say what to find: a name, or a part of one, such as 2026.csv or *.jpg");
        if (limit is < 1 or > Paging.Most)
            return Problems.Invalid($"limit {limit} is out of range; use 1 to {Paging.Most}");
        var query = CopyBook.Alive(db).Where(c => c.State != Core.Watching.CopyState.Missing);
        if (job is not null)
            query = query.Where(c => c.Job == job);
        if (store is not null)
            query = query.Where(c => c.Store == store);
        try
        {
            return TypedResults.Ok(
                await search.FindAsync(
                    await query.OrderByDescending(c => c.Taken).Take(Paging.Most).ToListAsync(cancel),
                    name.Trim(),
                    limit,
                    cancel
                )
            );
        }
        catch (Exception e) when (e is PlaceException or StoreDamageException)
        {
            return Problems.Refused($"the copies cannot be searched: {e.Message}");
        }
    }

    private static async Task<Results<Ok<IReadOnlyList<VersionAnswer>>, ProblemHttpResult>> VersionsAsync(
        string job,
        string path,
        KeepContext db,
        CopySearch search,
        CharterInForce charter,
        CancellationToken cancel,
        string? store = null
    )
    {
        if (NameText.ReadPath(path) is not { } names)
            return Problems.Invalid($"the path '{path}' cannot be read: a backslash must be doubled or begin \\xNN");
        var into = store ?? charter.Charter.Jobs.GetValueOrDefault(job)?.Into.FirstOrDefault();
        var copies = await CopyBook
            .Alive(db)
            .Where(c => c.Job == job && (into == null || c.Store == into) && c.State != Core.Watching.CopyState.Missing)
            .OrderByDescending(c => c.Taken)
            .Take(Paging.Most)
            .ToListAsync(cancel);
        if (copies.Count == 0)
            return Problems.NotThere("copy", job, "copies", words: $"job '{job}' has no copies{(into is null ? "" : $" in store {into}")}");
        try
        {
            return TypedResults.Ok(await search.VersionsAsync(copies, names));
        }
        catch (PlaceException e)
        {
            return Problems.Refused($"the copies cannot be looked at: {e.Message}");
        }
    }

    private static async Task<Results<Ok<CopyAnswer>, ProblemHttpResult>> HoldAsync(
        string id,
        HoldRequest request,
        KeepContext db,
        CopyCare care,
        TimeProvider clock,
        HttpContext http,
        CancellationToken cancel,
        string? store = null
    )
    {
        var (copy, missing) = await CopyBook.FindAsync(db, id, store, cancel);
        if (copy is null)
            return missing!;
        if (request.Reason.Trim().Length is < 3 or > 500)
            return Problems.Invalid("say in a few words (3 to 500 characters) why the copy is held");
        if (request.Until <= clock.GetUtcNow())
            return Problems.Invalid(
                $"until {request.Until:u} is not in the future; give the date on which somebody looks at the hold again"
            );
        if (copy.BinnedAt is not null)
            return Problems.Refused($"copy {id} is in the bin; take it back first, then hold it");
        await care.HoldAsync(copy, http.User.Identity!.Name!, request.Reason.Trim(), Instant.FromDateTimeOffset(request.Until), cancel);
        return TypedResults.Ok(
            (await CopyBook.Alive(db).FirstAsync(c => c.Id == id && c.Store == copy.Store, cancel)).ToAnswer(clock.Now())
        );
    }

    private static async Task<Results<Ok<CopyAnswer>, ProblemHttpResult>> TakeBackAsync(
        string id,
        KeepContext db,
        CopyCare care,
        TimeProvider clock,
        CancellationToken cancel,
        string? store = null
    )
    {
        var (copy, missing) = await CopyBook.FindAsync(db, id, store, cancel);
        if (copy is null)
            return missing!;
        if (copy.BinnedAt is null)
            return Problems.Refused($"copy {id} is not in the bin; nothing was changed");
        try
        {
            if (!await care.TakeBackAsync(copy, cancel))
                return Problems.Refused($"copy {id} is gone from store {copy.Store}; its time in the bin was over");
        }
        catch (Exception e) when (e is PlaceException or StoreDamageException)
        {
            return Problems.Refused($"copy {id} cannot be taken back: {e.Message}");
        }
        return TypedResults.Ok(
            (await CopyBook.Alive(db).FirstAsync(c => c.Id == id && c.Store == copy.Store, cancel)).ToAnswer(clock.Now())
        );
    }

    private static async Task<Ok<List<CopyCountAnswer>>> CountsAsync(
        KeepContext db,
        CancellationToken cancel,
        string? job = null,
        string? machine = null,
        string? store = null
    )
    {
        var found = await CopyBook
            .InForce(db)
            .Where(c => (job == null || c.Job == job) && (machine == null || c.Machine == machine) && (store == null || c.Store == store))
            .GroupBy(c => new
            {
                c.Job,
                c.Machine,
                c.Store,
            })
            .Select(g => new
            {
                g.Key,
                Count = g.Count(),
                Newest = g.Max(c => c.Taken),
                Oldest = g.Min(c => c.Taken),
            })
            .ToListAsync(cancel);
        return TypedResults.Ok(
            found
                .OrderBy(c => c.Key.Job, StringComparer.Ordinal)
                .ThenBy(c => c.Key.Machine, StringComparer.Ordinal)
                .ThenBy(c => c.Key.Store, StringComparer.Ordinal)
                .Select(c => new CopyCountAnswer(
                    c.Key.Job,
                    c.Key.Machine,
                    c.Key.Store,
                    c.Count,
                    c.Newest.ToDateTimeOffset(),
                    c.Oldest.ToDateTimeOffset()
                ))
                .ToList()
        );
    }

    private static async Task<Results<Ok<Page<CopyAnswer>>, ProblemHttpResult>> ListAsync(
        KeepContext db,
        TimeProvider clock,
        CancellationToken cancel,
        string? job = null,
        string? store = null,
        string? machine = null,
        string? state = null,
        DateTimeOffset? since = null,
        DateTimeOffset? until = null,
        string? cursor = null,
        int limit = 100
    )
    {
        if (!Paging.TryRead(cursor, ref limit, out var before, out var problem))
            return problem;
        var query = CopyBook.Alive(db);
        if (job is not null)
            query = query.Where(c => c.Job == job);
        if (store is not null)
            query = query.Where(c => c.Store == store);
        if (machine is not null)
            query = query.Where(c => c.Machine == machine);
        if (since is { } first)
        {
            var from = Instant.FromDateTimeOffset(first);
            query = query.Where(c => c.Taken >= from);
        }
        if (until is { } end)
        {
            var to = Instant.FromDateTimeOffset(end);
            query = query.Where(c => c.Taken < to);
        }
        if (state is not null)
        {
            if (InState(query, state, clock.Now()) is not { } narrowed)
                return Problems.Invalid(
                    $"state '{state}' is not known; use {string.Join(", ", Enum.GetValues<CopyState>().Select(s => s.Word()))}, held, "
                        + "suspect or in-bin"
                );
            query = narrowed;
        }
        // The instant of capture with a running number would be exact; ten-millionths of a second are told apart well enough.
        if (before is { } ticks)
        {
            if (ticks > Instant.MaxValue.ToUnixTimeTicks())
                return Problems.Invalid($"cursor '{cursor}' is not one that this list gave; leave it out to begin at the start");
            var last = Instant.FromUnixTimeTicks(ticks);
            query = query.Where(c => c.Taken < last);
        }
        var rows = await query.OrderByDescending(c => c.Taken).ThenByDescending(c => c.Id).Take(limit + 1).ToListAsync(cancel);
        if (rows.Count > limit && rows[limit].Taken == rows[limit - 1].Taken)
        {
            // Names that say a day and no hour are all of one instant: a page does not end within it.
            var same = rows[limit].Taken;
            rows =
            [
                .. rows.Where(r => r.Taken > same),
                .. await query.Where(c => c.Taken == same).OrderByDescending(c => c.Id).ToListAsync(cancel),
            ];
            limit = rows.Count;
            rows.AddRange(await query.Where(c => c.Taken < same).OrderByDescending(c => c.Taken).Take(1).ToListAsync(cancel));
        }
        return TypedResults.Ok(Paging.Page(rows, limit, c => c.Taken.ToUnixTimeTicks(), c => c.ToAnswer(clock.Now())));
    }

    /// <summary>Copies of a state as it is shown; null for a word that is none.</summary>
    private static IQueryable<Copy>? InState(IQueryable<Copy> copies, string state, Instant now) =>
        state switch
        {
            "in-bin" => copies.Where(c => c.BinnedAt != null),
            "held" => copies.Where(c => c.HeldUntil != null && c.HeldUntil > now),
            "suspect" => copies.Where(c => c.Doubt != null),
            _ when Kebab.Read<CopyState>(state) is { } known => copies.Where(c => c.State == known),
            _ => null,
        };

    private static async Task<Results<Ok<FolderAnswer>, ProblemHttpResult>> BrowseAsync(
        string id,
        KeepContext db,
        OpenStores stores,
        CancellationToken cancel,
        string? path = null,
        string? store = null
    )
    {
        var (copy, missing) = await CopyBook.FindAsync(db, id, store, cancel);
        if (copy is null)
            return missing!;
        if (NameText.ReadPath(path ?? "/") is not { } names)
            return Problems.Invalid($"the path '{path}' cannot be read: a backslash must be doubled or begin \\xNN");
        try
        {
            return await stores.AskAsync(copy.Store, opened => Browse(opened, copy, path, names));
        }
        catch (Exception e) when (e is PlaceException or StoreDamageException or NotSupportedException)
        {
            return Problems.Refused($"copy {id} cannot be browsed: {e.Message}");
        }
    }

    private static Results<Ok<FolderAnswer>, ProblemHttpResult> Browse(IStoreLayout store, Copy copy, string? path, List<byte[]> names)
    {
        var id = copy.Id;
        if (store.ReadRecord(id) is not { } record)
            return Problems.Refused($"the record of copy {id} is not in store {copy.Store}; check the store to learn what else is missing");
        var entry = store.Find(record, names);
        if (entry is null)
            return Problems.NotFound($"copy {id} holds no '{path}'; look at the folder above it");
        if (entry.Kind != EntryKind.Folder)
            return Problems.Invalid($"'{path}' is a {Kebab.Of(entry.Kind)}, not a folder; restore it, or look at the folder above it");
        var entries = store.ReadFolder(entry);
        while (path is null && entries is [{ Kind: EntryKind.Folder } only])
        {
            names.Add(only.Name);
            entries = store.ReadFolder(only);
        }
        return TypedResults.Ok(
            new FolderAnswer(id, "/" + string.Join('/', names.Select(n => NameText.Show(n))), [.. entries.Select(ToAnswer)])
        );
    }

    public static CopyAnswer ToAnswer(this Copy c, Instant now) =>
        new(
            c.Id,
            c.Origin,
            c.Job,
            c.Machine,
            c.Store,
            c.Taken.ToDateTimeOffset(),
            c.Ended.ToDateTimeOffset(),
            c.State,
            c.CheckedAt?.ToDateTimeOffset(),
            c.BinnedAt?.ToDateTimeOffset(),
            c.Items,
            c.Bytes,
            c.Skipped,
            c.NewBytes,
            c.StoredBytes,
            c.Damage.Split('\n', StringSplitOptions.RemoveEmptyEntries),
            c.DamageCount,
            c.RunId is 0 ? null : c.RunId,
            c.Doubt,
            c.HeldUntil is { } until ? new HoldAnswer(c.HeldBy!, c.HeldReason!, until.ToDateTimeOffset(), until <= now) : null,
            c.Kind
        );

    private static EntryAnswer ToAnswer(TreeEntry e) =>
        new(
            NameText.Show(e.Name),
            Kebab.Of(e.Kind),
            Convert.ToString(e.Mode, 8).PadLeft(4, '0'),
            e.Owner.Length > 0 ? e.Owner : e.User.ToString(CultureInfo.InvariantCulture),
            e.OwningGroup.Length > 0 ? e.OwningGroup : e.Group.ToString(CultureInfo.InvariantCulture),
            e.Size,
            e.Items,
            e.Modified.ToDateTimeOffset(),
            e.Kind == EntryKind.Symlink ? NameText.Show(e.LinkTarget) : null
        );
}
