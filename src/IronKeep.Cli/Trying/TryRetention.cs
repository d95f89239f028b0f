using System.CommandLine;
using IronKeep.Cli.Printing;
using IronKeep.Core.Quantities;
using IronKeep.Core.Retention;

namespace IronKeep.Cli.Trying;

internal static class TryRetention
{
    internal sealed record CopyLine(string Id, string Verdict, IReadOnlyList<string> Reasons, string? LeavesAt);

    internal sealed record Answer(
        string Policy,
        string AsOf,
        bool Frozen,
        IReadOnlyList<CopyLine> Copies,
        IReadOnlyDictionary<string, int> Counts
    );

    /// <summary>
    /// Up to this many copies, the moment from which one is let go is worked out where the rungs themselves do not tell it.
    /// </summary>
    private const int MostForSince = 500;

    public static Command Make()
    {
        var policyOption = new Option<string>("--policy")
        {
            Description = "The policy's sentence, such as 'newest 3 then 7 daily'",
            Required = true,
        };
        var copiesOption = new Option<string>("--copies")
        {
            Description = "A CSV file with the header id,taken,state,base,held; - for standard input",
            Required = true,
        };
        var atLeast = new Option<int>("--at-least")
        {
            Description = "The floor: the newest that many good copies always stay",
            DefaultValueFactory = _ => RetentionGuards.UsualFloor,
        };
        var fresh = new Option<string?>("--fresh-within")
        {
            Description = "The promised age of the newest good copy; when it is older, nothing expires",
        };
        var (zoneOption, asOfOption) = (TryCommands.ZoneOption, TryCommands.AsOfOption);
        var command = new Command("retention", "Shows what a policy keeps of a list of copies, and why")
        {
            policyOption,
            zoneOption,
            asOfOption,
            copiesOption,
            atLeast,
            fresh,
        };
        command.SetAction(parsed =>
        {
            var sentence = parsed.GetValue(policyOption)!;
            var (policy, problem) = RetentionSentence.Read(sentence);
            if (policy is null)
                throw TryCommands.Misread(sentence, problem!);
            var asOf = TryCommands.AsOf(parsed.GetValue(asOfOption));
            var zone = TryCommands.Zone(parsed.GetValue(zoneOption)!);
            if (parsed.GetValue(atLeast) is < 1 or > 1000)
                throw TryCommands.NotUnderstood("--at-least goes from 1 to 1000");
            Span? freshWithin = null;
            if (parsed.GetValue(fresh) is { } span)
                freshWithin = Span.TryParse(span, out var read, out var wrong)
                    ? read
                    : throw TryCommands.NotUnderstood($"--fresh-within: {wrong}");
            var copies = CopiesCsv.Read(TryCommands.Read(parsed.GetValue(copiesOption)!));
            var guards = new RetentionGuards(zone, parsed.GetValue(atLeast), freshWithin);
            var answer = RetentionRules.Decide(policy, guards, copies, asOf);
            var lines = answer
                .Copies.Select(c => new CopyLine(
                    c.Copy.Id,
                    Kebab.Of(c.Verdict),
                    Reasons(c),
                    c.LeavesAt is { } l ? TryCommands.Utc(l) : null
                ))
                .ToList();
            var counts = Enum.GetValues<Verdict>().ToDictionary(v => Kebab.Of(v), v => answer.Copies.Count(c => c.Verdict == v));
            if (Common.AsJson(parsed))
                Show.Json(new Answer(policy.ToString(), TryCommands.Utc(asOf), answer.Frozen, lines, counts));
            else
            {
                Show.Table(
                    ["Copy", "Taken", "Verdict", "Why"],
                    answer.Copies.Zip(lines, (c, l) =>
                        new[] { l.Id, Show.Zoned(TryCommands.Local(c.Copy.Taken, zone)), l.Verdict, string.Join("; ", l.Reasons) }
                    ),
                    "there are no copies"
                );
                Show.Line(string.Join(", ", counts.Where(c => c.Value > 0).Select(c => $"{c.Value} {c.Key}")));
                Show.Line($"'{policy}' with a copy a day {SteadyState.Play(policy, guards.AtLeast, zone, null, asOf).Words}");
            }
            return Root.Done;

            // With "then" a place depends on the rungs before, so the moment is found by asking again and again.
            IReadOnlyList<string> Reasons(CopyVerdict c) =>
                c.Verdict == Verdict.Expire
                && policy.Connective == RungConnective.Then
                && policy.Rungs.Length > 1
                && copies.Count <= MostForSince
                && RetentionRules.ExpiresSince(policy, guards, copies, c.Copy.Id, asOf) is { } since
                    ? [.. c.Reasons, $"since {Show.Zoned(TryCommands.Local(since, zone))}"]
                    : c.Reasons;
        });
        return command;
    }
}
