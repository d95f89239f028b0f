using System.CommandLine;
using System.Globalization;
using IronKeep.Cli.Printing;
using IronKeep.Contracts;
using IronKeep.Core.Quantities;

namespace IronKeep.Cli.Commands;

internal static class ForecastCommands
{
    public static Command Make()
    {
        var charter = new Option<string?>("--charter")
        {
            Description = "A charter's file to play in place of the one in force; - for standard input",
        };
        var span = new Option<string>("--for") { Description = "How far ahead: 90d, 12 weeks, 1 years", DefaultValueFactory = _ => "365d" };
        var prune = new Option<bool>("--prune-all")
        {
            Description = "Play jobs that are pruned by hand only as if pruned after every success",
        };
        var outage = new Option<string?>("--outage")
        {
            Description = "Try an outage: FROM/TO, such as 2026-12-01T20:00:00Z/2026-12-02T08:00:00Z",
        };
        var job = new Option<string?>("--job") { Description = "With --on: the job whose copies are asked for" };
        var on = new Option<string?>("--on") { Description = "Which copies of a job will exist at this instant or on this date, and why" };
        return Common.Verb(
            "forecast",
            "Plays a charter forward: what will run, be kept, and not fit",
            async (parsed, client, cancel) =>
            {
                var yaml = parsed.GetValue(charter) is { } file ? await CharterCommands.ReadAsync(file, cancel) : null;
                if (parsed.GetValue(on) is { } date)
                    return await CopiesOnAsync(
                        parsed,
                        client,
                        new CopiesOnRequest(
                            parsed.GetValue(job)
                                ?? throw new Client.AnswerException(
                                    Root.NotUnderstood,
                                    "--on asks for the copies of one job; name it with --job"
                                ),
                            null,
                            Until.Read(date),
                            yaml?.Yaml,
                            parsed.GetValue(prune)
                        ),
                        cancel
                    );
                var request = new ForecastRequest(
                    yaml?.Yaml,
                    Days(parsed.GetValue(span)!),
                    parsed.GetValue(prune),
                    Outage(parsed.GetValue(outage))
                );
                var answer = await client.PostAsync<ForecastAnswer>("forecast", request, cancel);
                if (Common.AsJson(parsed))
                    Show.Json(answer);
                else
                    Print(answer);
                return answer.Findings.Count > 0 ? Root.Findings : Root.Done;
            },
            charter,
            span,
            prune,
            outage,
            job,
            on
        );
    }

    /// <summary>"365d", "12w", or a span in words.</summary>
    internal static int Days(string text)
    {
        var digits = text.TakeWhile(char.IsAsciiDigit).Count();
        if (
            digits > 0
            && text[digits..] is "d" or "w"
            && int.TryParse(text[..digits], NumberStyles.None, CultureInfo.InvariantCulture, out var count)
            && count < 10_000
        )
            return text.EndsWith('w') ? count * 7 : count;
        if (Span.TryParse(text, out var span, out var problem))
            return (int)Math.Ceiling(span.ToDuration().TotalDays);
        throw new Client.AnswerException(Root.NotUnderstood, $"--for: {problem}");
    }

    private static OutageRequest? Outage(string? text)
    {
        if (text is null)
            return null;
        var ends = text.Split('/');
        return
            ends.Length == 2
            && DateTimeOffset.TryParse(ends[0], CultureInfo.InvariantCulture, DateTimeStyles.AssumeUniversal, out var from)
            && DateTimeOffset.TryParse(ends[1], CultureInfo.InvariantCulture, DateTimeStyles.AssumeUniversal, out var to)
            ? new OutageRequest(from, to)
            : throw new Client.AnswerException(
                Root.NotUnderstood,
                $"'{text}' is not an outage; write its two instants with a stroke between: 2026-12-01T20:00:00Z/2026-12-02T08:00:00Z"
            );
    }

    private static async Task<int> CopiesOnAsync(
        ParseResult parsed,
        Client.KeepClient client,
        CopiesOnRequest request,
        CancellationToken cancel
    )
    {
        var answer = await client.PostAsync<PolicyEffectAnswer>("forecast/copies", request, cancel);
        if (Common.AsJson(parsed))
            Show.Json(answer);
        else
            Show.Table(
                ["Copy", "Taken", "Verdict", "Why"],
                answer.Copies.Select(c => new[] { c.CopyId, Show.When(c.Taken), c.Verdict.Word(), string.Join("; ", c.Reasons) }),
                "no copies will exist then"
            );
        return Root.Done;
    }

    private static void Print(ForecastAnswer answer)
    {
        Show.Line(
            $"{Counted.Of(answer.Days, "day")} from {Show.When(answer.AsOf)}: {Counted.Of(answer.Runs, "run")}, "
                + $"{(answer.Findings.Count == 0 ? "nothing goes wrong" : Counted.Of(answer.Findings.Count, "finding"))}"
        );
        Show.Line();
        foreach (var f in answer.Findings)
            Finding(f);
        if (answer.Findings.Count > 0)
            Show.Line();
        var soon = Math.Min(30, answer.Days);
        Show.Table(
            ["Store", ">Now", $">In {Counted.Of(soon, "day")}", ">At the end", ">Most", ">Of it in the bin", ">Room", ">Reserve"],
            answer.Stores.Select(s =>
                new[]
                {
                    s.Store,
                    Show.Size(s.UsedNow),
                    Show.Size(s.Used[Math.Min(soon, s.Used.Count) - 1]),
                    Show.Size(s.Used[^1]),
                    Show.Size(s.Used.Max()),
                    Show.Size(s.InBin[s.Used.ToList().IndexOf(s.Used.Max())]),
                    Show.Size(s.Room),
                    Show.Size(s.Reserve),
                }
            ),
            "no stores"
        );
        Show.Line();
        Show.Table(
            [
                "Job",
                ">Runs",
                ">Late",
                ">Left out",
                ">Copies now",
                ">At the end",
                ">Whole",
                ">A run adds",
                ">Grows a day",
                "Lasts",
                "Known from",
            ],
            answer.Jobs.Select(j =>
                new[]
                {
                    j.Job,
                    $"{j.Runs}",
                    $"{j.Late}",
                    $"{j.LeftOut}",
                    $"{j.CopiesNow}",
                    $"{j.CopiesAtEnd}",
                    Show.Size(j.WholeBytes),
                    Show.Size(j.ChangeBytes),
                    Show.Size(j.GrowthPerDay),
                    Show.Took(j.TakesSeconds),
                    j.From,
                }
            ),
            "no jobs"
        );
        foreach (var set in answer.Rotations)
        {
            Show.Line();
            Show.Line(
                $"Rotation set {set.Set}: tonight {(set.Nights.Count > 0 ? set.Nights[0].Medium : null) ?? "none"}, next "
                    + $"{string.Join(", ", set.Nights.Skip(1).Take(6).Select(n => n.Medium ?? (n.Short ? "SHORT" : "-")))}"
            );
            foreach (var group in set.Groups)
                Show.Line(
                    $"  {group.Group}: has {group.Has}, {(group.Enough is { } n ? $"{n} would be enough" : "no number is enough")} "
                        + $"({group.How})"
                );
        }
    }

    internal static void Finding(FindingAnswer f)
    {
        Show.Line(
            $"{(f.At is { } at ? at.ToLocalTime().ToString("yyyy-MM-dd", CultureInfo.InvariantCulture) : "from now on"), -12} "
                + $"{f.Kind.Word().ToUpperInvariant(), -14} {f.Subject} {f.Message}"
        );
        Show.Line($"{"", -27} {f.Remedy}");
    }
}
