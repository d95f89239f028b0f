using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Quantities;
using IronKeep.Core.Watching;
using IronKeep.Service.Alerts;
using IronKeep.Service.Basics;
using IronKeep.Service.Charters;
using IronKeep.Service.Runs;
using IronKeep.Service.Stores;
using IronKeep.Stores;
using IronKeep.Stores.Exports;
using IronKeep.Stores.Layouts;
using IronKeep.Stores.Places;
using IronKeep.Stores.Pooled;
using IronKeep.Stores.Posix;
using IronKeep.Stores.Trees;
using Microsoft.AspNetCore.Http.HttpResults;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.Options;

namespace IronKeep.Service.Copies;

/// <summary>Copies in open formats: written by a run to the service's machine, or sent to whoever asks.</summary>
public static class ExportEndpoints
{
    public static void MapExports(this IEndpointRouteBuilder copies)
    {
        copies
            .MapPost("/{id}/exports", ExportAsync)
            .WithSummary("Writes all of a copy, or some paths, in an open format to the service's machine");
        copies
            .MapGet("/{id}/archive", ArchiveAsync)
            .WithSummary("Sends all of a copy, or some paths, as a pax tar archive; with compress=true, compressed with Zstandard");
    }

    private static async Task<Results<Accepted<RunAnswer>, ProblemHttpResult>> ExportAsync(
        string id,
        ExportRequest request,
        KeepContext db,
        RunQueue queue,
        CharterInForce charter,
        IOptions<ServiceSettings> settings,
        HttpContext http,
        CancellationToken cancel,
        string? store = null
    )
    {
        var (copy, missing) = await CopyBook.FindAsync(db, id, store, cancel);
        if (copy is null)
            return missing!;
        if (Kebab.Read<ExportFormat>(request.Format) is not { } format)
            return Problems.Invalid($"format '{request.Format}' is not known; use tar or bag");
        if (RestoreEndpoints.BadTarget(request.To, request.Paths, charter, settings.Value) is { } bad)
            return bad;
        if (charter.Charter.Stores.GetValueOrDefault(copy.Store)?.Dated is not null)
            return Problems.Refused(
                $"copy {id} is one file that something else wrote, in its own format already; restore it in place of exporting it"
            );
        var run = await queue.AddAsync(
            new RunRequest(RunKind.Export, copy.Job, copy.Store, Actor.Person(http.User.Identity!.Name!))
            {
                Order = new ExportOrder(id, request.Paths, format, request.To),
            },
            cancel
        );
        return TypedResults.Accepted($"/api/v1/runs/{run.Id}", run.ToAnswer());
    }

    private static async Task<Results<EmptyHttpResult, ProblemHttpResult>> ArchiveAsync(
        string id,
        KeepContext db,
        OpenStores stores,
        HttpContext http,
        ILogger<CopyBook> log,
        CancellationToken cancel,
        string[]? path = null,
        bool compress = false,
        string? store = null
    )
    {
        var (copy, missing) = await CopyBook.FindAsync(db, id, store, cancel);
        if (copy is null)
            return missing!;
        var paths = path ?? [];
        IStoreLayout opened;
        CopyRecord? record;
        try
        {
            (opened, record) = await stores.AskAsync(copy.Store, asked => (asked, asked.ReadRecord(id)));
            if (!opened.Can.Browses)
                return Problems.Refused(
                    $"copy {id} is one file that something else wrote, in its own format already; restore it in place of exporting it"
                );
            if (record is null)
                return Problems.Refused(
                    $"the record of copy {id} is not in store {copy.Store}; check the store to learn what else is missing"
                );
            foreach (var wanted in paths)
            {
                if (NameText.ReadPath(wanted) is not { } names)
                    return Problems.Invalid($"the path '{wanted}' cannot be read: a backslash must be doubled or begin \\xNN");
                if (opened.Find(record, names) is null)
                    return Problems.NotFound($"copy {id} holds no '{wanted}'; look at the folder above it");
            }
        }
        catch (Exception e) when (e is PlaceException or StoreDamageException)
        {
            return Problems.Refused($"copy {id} cannot be exported: {e.Message}");
        }
        http.Response.ContentType = compress ? "application/zstd" : "application/x-tar";
        http.Response.Headers.ContentDisposition = $"attachment; filename=\"{id}.tar{(compress ? ".zst" : "")}\"";
        try
        {
            // The archive is written as it is read; a client that is slow holds it up, and nothing is kept in memory.
            await using var body = http.Response.BodyWriter.AsStream(leaveOpen: true);
            await Task.Run(() => opened.WriteArchive(record, paths, body, compress, cancel), cancel);
        }
        catch (Exception e) when (e is PlaceException or StoreDamageException)
        {
            // Too late for an answer in words: the broken connection tells the client that the archive is not whole.
            log.LogError("The archive of copy {Copy} was broken off: {Problem}", id, e.Message);
            http.Abort();
        }
        return TypedResults.Empty;
    }
}
