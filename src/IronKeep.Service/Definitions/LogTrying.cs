using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Schedules;
using IronKeep.Core.Watching.Logs;
using IronKeep.Service.Basics;
using IronKeep.Service.Charters;
using Microsoft.AspNetCore.Http.HttpResults;
using NodaTime;

namespace IronKeep.Service.Definitions;

/// <summary>Rules for logs, tried while somebody writes them.</summary>
public static class LogTrying
{
    private const string Kind = "log-rules",
        Examples = "examples";
    private const int MostLog = 1024 * 1024,
        MostLines = 20_000;

    public static void MapLogTrying(this IEndpointRouteBuilder api) =>
        api.MapPost("/definitions/log-rules/{name}/try", Try)
            .WithSummary(
                "What rules, as fields of a form, make of a log: its runs, and of each line what each rule made of it; nothing is changed"
            );

    private static Results<Ok<LogTryAnswer>, ProblemHttpResult> Try(
        string name,
        LogTryRequest request,
        DefinitionDesk desk,
        CharterInForce inForce,
        TimeProvider clock
    )
    {
        if (!CharterReader.IsName(name))
            return Problems.Invalid($"'{name}' cannot be a name; use lower-case letters, digits and hyphens, at most 63");
        if (request.Log.Length > MostLog)
            return Problems.Invalid(
                $"the log has {request.Log.Length} characters; try it on the last {MostLog}, or with 'ironkeep try log', which reads logs "
                    + $"of any length"
            );
        if (request.Log.AsSpan().Count('\n') >= MostLines)
            return Problems.Invalid($"the log has more than {MostLines} lines; try it on fewer, or with 'ironkeep try log'");
        var zone = inForce.Charter.Zone;
        if (request.Zone is { } named && (zone = DateTimeZoneProviders.Tzdb.GetZoneOrNull(named)) is null)
            return Problems.Invalid($"there is no time zone '{named}'; use an IANA name such as Europe/London");
        // An example that no longer fits is a mistake of saving, and no reason not to show what the rules do.
        var draft = desk.With(Kind, name, new DefinitionRequest(request.Fields.Where(f => f.Key != Examples).ToDictionary()));
        if (draft.Reading.Charter is not { } charter)
            return TypedResults.Ok(new LogTryAnswer(draft.Mistakes, [], [], 0));
        var trial = LogTrial.Of(charter.LogRules[name], request.Log, zone!, clock.Now(), request.ExitCode);
        return TypedResults.Ok(
            new LogTryAnswer(
                [],
                [.. trial.Runs.Select(ToAnswer)],
                [.. trial.Marks.OrderBy(m => m.Key).Select(m => new TriedLine(m.Key, [.. m.Value.Select(ToAnswer)]))],
                trial.Lines
            )
        );
    }

    private static TriedMark ToAnswer(TrialMark mark) =>
        new(mark.List, mark.Pattern, mark.Values.DistinctBy(v => v.Name).ToDictionary(v => v.Name, v => v.Text));

    private static TriedRun ToAnswer(TrialRun tried) =>
        new(
            tried.Run.FirstLine,
            tried.Run.LastLine,
            tried.Run.Began?.ToDateTimeOffset(),
            tried.Run.Ended?.ToDateTimeOffset(),
            tried.Verdict.Outcome,
            tried.Verdict.Class,
            tried.Verdict.Sentence,
            new CheckInFigures(tried.Run.Items, tried.Run.Bytes, tried.Verdict.Seconds, tried.Run.Skipped, tried.Run.Errors),
            tried.Code,
            [.. tried.Verdict.Evidence.Select(e => new EvidenceLine(e.Line, e.List, e.Text, e.Class))]
        );
}
