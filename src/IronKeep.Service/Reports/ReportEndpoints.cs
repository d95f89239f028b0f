using System.Text;
using System.Text.Json;
using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Service.Basics;
using IronKeep.Service.Charters;
using Microsoft.AspNetCore.Http.HttpResults;
using Microsoft.EntityFrameworkCore;
using NodaTime;
using NodaTime.Text;

namespace IronKeep.Service.Reports;

public static class ReportEndpoints
{
    public static void MapReports(this IEndpointRouteBuilder api)
    {
        var reports = api.MapGroup("/reports");
        reports.MapGet("", ListAsync).WithSummary("The reports that are kept, newest first");
        reports.MapPost("", AskAsync).WithSummary("Asks for a report; it is made in the background and kept");
        reports
            .MapGet(
                "/{id:long}",
                async Task<Results<Ok<ReportAnswer>, ProblemHttpResult>> (long id, KeepContext db, CancellationToken cancel) =>
                    await OfAsync(db, id, cancel) is var (report, problem) && report is not null ? TypedResults.Ok(report) : problem!
            )
            .WithSummary("A report");
        reports
            .MapGet("/{id:long}/html", (long id, KeepContext db, CancellationToken cancel) => PageAsync(db, id, cancel))
            .Produces<string>(StatusCodes.Status200OK, "text/html")
            .WithSummary("The report as one page, which prints on A4");
        reports
            .MapGet("/{id:long}/csv", (long id, KeepContext db, CancellationToken cancel) => ValuesAsync(db, id, cancel))
            .Produces<string>(StatusCodes.Status200OK, "text/csv")
            .WithSummary("The report's jobs as comma-separated values");
    }

    private static async Task<Results<Ok<Page<ReportListAnswer>>, ProblemHttpResult>> ListAsync(
        KeepContext db,
        CancellationToken cancel,
        string? name = null,
        string? cursor = null,
        int limit = 100
    )
    {
        if (!Paging.TryRead(cursor, ref limit, out var before, out var problem))
            return problem;
        var rows = await db
            .Reports.AsNoTracking()
            .Where(r => (before == null || r.Id < before) && (name == null || r.Name == name))
            .OrderByDescending(r => r.Id)
            .Take(limit + 1)
            .Select(r => new ReportListAnswer(
                r.Id,
                r.Name,
                r.Every,
                r.From,
                r.To,
                r.MadeAt == null ? null : r.MadeAt.Value.ToDateTimeOffset(),
                r.Problem
            ))
            .ToListAsync(cancel);
        return TypedResults.Ok(Paging.Page(rows, limit, r => r.Id, r => r));
    }

    private static async Task<Results<Ok<ReportListAnswer>, ProblemHttpResult>> AskAsync(
        ReportRequest request,
        CharterInForce charter,
        ReportDesk desk,
        KeepContext db,
        CancellationToken cancel
    )
    {
        if (!charter.Charter.Reports.TryGetValue(request.Name, out var report))
            return Problems.NotThere("report", request.Name, "reports", " in the charter");
        LocalDate? from = null;
        if (request.From is { } text)
        {
            if (LocalDatePattern.Iso.Parse(text) is not { Success: true } date || date.Value.Year is < 2000 or > 9000)
                return Problems.Invalid($"'{text}' is not a date; write the first day of the period, such as 2026-11-23");
            from = date.Value;
        }
        var row = await desk.AskAsync(db, report, from, cancel);
        return TypedResults.Ok(new ReportListAnswer(row.Id, row.Name, row.Every, row.From, row.To, null, null));
    }

    private static async Task<(ReportAnswer? Report, ProblemHttpResult? Problem)> OfAsync(KeepContext db, long id, CancellationToken cancel)
    {
        if (await db.Reports.AsNoTracking().FirstOrDefaultAsync(r => r.Id == id, cancel) is not { } row)
            return (null, Problems.NotThere("report", $"{id}", "reports"));
        if (row.Data is null)
            return (
                null,
                Problems.Refused(
                    row.Problem is { } why ? $"report {id} could not be made: {why}" : $"report {id} is being made; ask again in a moment"
                )
            );
        return (JsonSerializer.Deserialize<ReportAnswer>(row.Data, ContractJson.Options), null);
    }

    private static async Task<IResult> PageAsync(KeepContext db, long id, CancellationToken cancel) =>
        await OfAsync(db, id, cancel) is var (report, problem) && report is not null
            ? Results.Content(ReportPages.Html(report), "text/html", Encoding.UTF8)
            : problem!;

    private static async Task<IResult> ValuesAsync(KeepContext db, long id, CancellationToken cancel) =>
        await OfAsync(db, id, cancel) is var (report, problem) && report is not null
            ? Results.File(Encoding.UTF8.GetBytes(ReportPages.Csv(report)), "text/csv; charset=utf-8", $"{report.Name}-{report.From}.csv")
            : problem!;
}
