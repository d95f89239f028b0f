using System.CommandLine;
using IronKeep.Cli.Printing;
using IronKeep.Cli.Shell;
using IronKeep.Contracts;
using IronKeep.Core.Quantities;

namespace IronKeep.Cli.Commands;

/// <summary>What is found in copies, and what is done for single ones.</summary>
internal static class CopyCareCommands
{
    public static IEnumerable<Command> All() => [Find(), Versions(), Why(), Hold(), Release(), TakeBack()];

    private static Command Find()
    {
        var name = new Argument<string>("NAME") { Description = "A name or a part of one; with * and ?; with a slash, a whole path" };
        var job = new Option<string?>("--job") { Description = "Only in copies of this job" };
        return Common.Verb(
            "find",
            "Finds files across copies",
            async (parsed, client, cancel) =>
            {
                var answer = await client.GetAsync<FindAnswer>(
                    $"copies/find?name={Uri.EscapeDataString(parsed.GetValue(name)!)}"
                        + $"{(parsed.GetValue(job) is { } j ? $"&job={Uri.EscapeDataString(j)}" : "")}",
                    cancel
                );
                if (Common.AsJson(parsed))
                    Show.Json(answer);
                else
                    Show.Table(
                        ["path", "job", "store", ">size", "modified", ">versions", ">copies", "newest in"],
                        answer.Found.Select(f =>
                            new[]
                            {
                                f.Path,
                                f.Job,
                                f.Store,
                                Show.Size(f.Size),
                                Show.When(f.Modified),
                                $"{f.Versions}",
                                $"{f.Copies}",
                                f.NewestCopy,
                            }
                        ),
                        $"nothing of that name in {Counted.Of(answer.CopiesSearched, "copy", "copies")}"
                    );
                if (!Common.AsJson(parsed) && !answer.Complete)
                    Show.Line("There is more; ask for a narrower name, or for one job");
                return answer.Found.Count > 0 ? Root.Done : Root.Findings;
            },
            name,
            job
        );
    }

    private static Command Versions()
    {
        var job = CompletionCommand.Job(new Argument<string>("JOB") { Description = "The job's name" });
        var path = new Argument<string>("PATH") { Description = "The path in its copies" };
        var store = new Option<string?>("--store") { Description = "Which of the job's stores, where it has several" };
        return Common.Verb(
            "versions",
            "Which versions of a file there are, and in which copies",
            async (parsed, client, cancel) =>
            {
                var query =
                    $"job={Uri.EscapeDataString(parsed.GetValue(job)!)}&path={Uri.EscapeDataString(parsed.GetValue(path)!)}"
                    + $"{(parsed.GetValue(store) is { } s ? $"&store={Uri.EscapeDataString(s)}" : "")}";
                var versions = await client.GetAsync<IReadOnlyList<VersionAnswer>>($"copies/versions?{query}", cancel);
                if (Common.AsJson(parsed))
                    Show.Json(versions);
                else
                    Show.Table(
                        ["version", ">size", "modified", "in copies from", "to", ">copies", "newest"],
                        versions.Select(
                            (v, i) =>
                                new[]
                                {
                                    v.Kind is null ? "(not there)" : $"{versions.Count - i}",
                                    v.Kind is null ? "" : Show.Size(v.Size),
                                    Show.When(v.Modified),
                                    Show.When(v.OldestTaken),
                                    Show.When(v.NewestTaken),
                                    $"{v.Copies.Count}",
                                    v.Copies[0],
                                }
                        ),
                        "no copy of the job holds this path; look with 'ironkeep copy find'"
                    );
                return versions.Count > 0 ? Root.Done : Root.Findings;
            },
            job,
            path,
            store
        );
    }

    private static Command Why()
    {
        var id = CopyCommands.Id;
        return Common.Verb(
            "why",
            "Why a copy is still there, or why it goes",
            async (parsed, client, cancel) =>
            {
                var copy = await CopyCommands.FindAsync(client, parsed.GetValue(id)!, cancel);
                var why = await client.GetAsync<CopyWhyAnswer>(CopyCommands.At(copy, "why"), cancel);
                if (Common.AsJson(parsed))
                {
                    Show.Json(why);
                    return Root.Done;
                }
                Show.Line($"Copy {copy.Id} of {copy.Job}, taken {Show.When(copy.Taken)}: {why.Verdict.Word()}");
                foreach (var reason in why.Reasons)
                    Show.Line($"  {reason}");
                if (why.LeavesAt is { } leaves)
                    Show.Line($"  a rule lets it go {Show.When(leaves)}");
                if (why.BinUntil is { } until)
                    Show.Line(
                        $"  its bytes may be reclaimed from {Show.When(until)} on; 'ironkeep copy take-back {copy.Id}' takes it back"
                    );
                if (why.Keep is not null)
                    Show.Line($"  policy {why.Policy}: {why.Keep}; {why.SetBy}");
                return Root.Done;
            },
            id
        );
    }

    private static Command Hold()
    {
        var id = CopyCommands.Id;
        var reason = new Option<string>("--reason") { Description = "Why, in a few words", Required = true };
        var until = Until.Option("When somebody looks at the hold again: a date, a date and time, or a span such as '90 days'");
        return Common.Verb(
            "hold",
            "Keeps a copy from expiring until a date",
            async (parsed, client, cancel) =>
            {
                var copy = await CopyCommands.FindAsync(client, parsed.GetValue(id)!, cancel);
                var held = await client.PutAsync<CopyAnswer>(
                    CopyCommands.At(copy, "hold"),
                    new HoldRequest(parsed.GetValue(reason)!, Until.Read(parsed.GetValue(until)!)),
                    cancel
                );
                if (Common.AsJson(parsed))
                    Show.Json(held);
                else
                    Show.Line($"Copy {held.Id} is held by {held.Hold!.By} until {Show.When(held.Hold.Until)}: {held.Hold.Reason}");
                return Root.Done;
            },
            id,
            reason,
            until
        );
    }

    private static Command Release()
    {
        var id = CopyCommands.Id;
        return Common.Verb(
            "release",
            "Ends a copy's hold; its policy decides again",
            async (parsed, client, cancel) =>
            {
                var copy = await client.DeleteAsync<CopyAnswer>(
                    CopyCommands.At(await CopyCommands.FindAsync(client, parsed.GetValue(id)!, cancel), "hold"),
                    cancel
                );
                if (Common.AsJson(parsed))
                    Show.Json(copy);
                else
                    Show.Line($"Copy {copy.Id} is not held");
                return Root.Done;
            },
            id
        );
    }

    private static Command TakeBack()
    {
        var id = CopyCommands.Id;
        return Common.Verb(
            "take-back",
            "Takes a copy back out of the bin",
            async (parsed, client, cancel) =>
            {
                var copy = await client.PostAsync<CopyAnswer>(
                    CopyCommands.At(await CopyCommands.FindAsync(client, parsed.GetValue(id)!, cancel), "take-back"),
                    null,
                    cancel
                );
                if (Common.AsJson(parsed))
                    Show.Json(copy);
                else
                    Show.Line($"Copy {copy.Id} is out of the bin; hold it if its policy would only send it there again");
                return Root.Done;
            },
            id
        );
    }
}
