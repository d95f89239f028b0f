using System.CommandLine;
using IronKeep.Cli.Printing;
using IronKeep.Cli.Shell;
using IronKeep.Contracts;
using IronKeep.Core.Quantities;

namespace IronKeep.Cli.Commands;

internal static class PruneCommands
{
    public static Command Make() => Common.Noun("prune", "What expires by policy, looked at before it goes", Plan(), Apply());

    private static Command Plan()
    {
        var job = CompletionCommand.Job(new Argument<string>("JOB") { Description = "The job's name" });
        var on = JobCommands.On;
        var store = new Option<string?>("--store") { Description = "Which of the job's stores, where it has several" };
        var asOf = new Option<string?>("--as-of")
        {
            Description = "What the rules decide at another instant over the copies of today, only to look at: 2027-03-28T01:00:00Z",
        };
        return Common.Verb(
            "plan",
            "Lists what would go to the bin and what stays, with reasons; removes nothing",
            async (parsed, client, cancel) =>
            {
                var plan = await client.PostAsync<PrunePlanAnswer>(
                    JobCommands.At(
                        parsed.GetValue(job)!,
                        parsed.GetValue(on),
                        "/prune-plans",
                        Query(parsed.GetValue(store), parsed.GetValue(asOf))
                    ),
                    null,
                    cancel
                );
                if (Common.AsJson(parsed))
                {
                    Show.Json(plan);
                    return Root.Done;
                }
                Show.Line($"Prune plan for {plan.Job} on {plan.Machine} in store {plan.Store}, as of {Show.When(plan.AsOf)}");
                Show.Line(
                    $"policy: {plan.Policy}; at least {plan.AtLeast} "
                        + $"stay{(plan.Frozen ? "; FROZEN: nothing expires, see the reasons" : "")}"
                );
                Show.Line();
                Show.Table(
                    ["copy", "taken", "state", "verdict", ">size", "reasons"],
                    plan.Copies.Select(c =>
                        new[]
                        {
                            c.CopyId,
                            Show.When(c.Taken),
                            c.State.Word(),
                            c.Verdict.Word(),
                            Show.Size(c.Bytes),
                            string.Join("; ", c.Reasons),
                        }
                    ),
                    "the job has no copies"
                );
                Show.Line();
                var going = plan.Counts["expire"];
                Show.Line(
                    $"{Counted.Of(going, "copy goes", "copies go")} to the bin for {plan.Bin}, {plan.Copies.Count - going} stay: "
                        + $"{string.Join(", ", plan.Counts.Where(c => c.Value > 0).Select(c => $"{c.Value} {c.Key}"))}"
                );
                foreach (var reason in plan.Brake)
                    Show.Line($"BRAKE: {reason}");
                Show.Line(
                    plan.Fingerprint is null ? "as of another instant: only to look at"
                    : going == 0 ? "nothing to apply"
                    : $"carry it out with: ironkeep prune apply "
                        + $"{plan.Fingerprint}{(plan.Brake.Count > 0 ? " --confirm 'why it is right'" : "")}"
                );
                return plan.Brake.Count > 0 ? Root.Findings : Root.Done;
            },
            job,
            on,
            store,
            asOf
        );
    }

    private static Command Apply()
    {
        var fingerprint = new Argument<string>("FINGERPRINT") { Description = "The fingerprint that the plan printed" };
        var confirm = new Option<string?>("--confirm") { Description = "Why a plan that the brake holds is right all the same" };
        return Common.Verb(
            "apply",
            "Carries out a plan, exactly as it was shown",
            async (parsed, client, cancel) =>
            {
                var run = await client.PostAsync<RunAnswer>(
                    $"prune-plans/{Uri.EscapeDataString(parsed.GetValue(fingerprint)!)}"
                        + $"/apply{(parsed.GetValue(confirm) is { } why ? $"?confirm={Uri.EscapeDataString(why)}" : "")}",
                    null,
                    cancel
                );
                return await Watching.BegunAsync(parsed, client, run, cancel);
            },
            fingerprint,
            confirm,
            Watching.NoWait
        );
    }

    private static string Query(string? store, string? asOf)
    {
        var parts = new List<string>();
        if (store is not null)
            parts.Add($"store={Uri.EscapeDataString(store)}");
        if (asOf is not null)
            parts.Add($"asOf={Uri.EscapeDataString(asOf)}");
        return string.Join('&', parts);
    }
}
