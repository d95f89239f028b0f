using System.Collections.Immutable;
using IronKeep.Core.Quantities;
using NodaTime;

namespace IronKeep.Core.Charters;

/// <summary>Reads steps, and what of them a job names.</summary>
internal static class StepReader
{
    private const int MostWords = 200,
        LongestWord = 4000,
        LongestName = 60;
    private static readonly Duration LongestLimit = Duration.FromHours(24);
    internal static readonly string[] Around =
    [
        "streams",
        "before",
        "until",
        "still-at",
        "watches-service",
        "after-success",
        "after-failure",
        "always-after",
    ];

    public static StepDefinition? Step(string name, CharterNode node, ValueReader read)
    {
        var map = read.Map(node, CharterLanguage.Names("step"));
        var words = map.Strings("command");
        if (words is null or { Count: 0 })
            map.Missing("command", "say what it runs, word by word: 'command: [systemctl, stop, register]'");
        foreach (var word in words ?? [])
            if (word.Value.Length > LongestWord || word.Value.Contains('\0', StringComparison.Ordinal))
                read.Wrong(word, $"a word of a command has at most {LongestWord} characters, and none of them is null");
        if (words is { Count: > MostWords })
            read.Wrong(words[0], $"a command of {words.Count} words is too long; put it into a script, at most {MostWords} words");
        var user = map.Scalar("as");
        if (user is not null && !CharterReader.IsName(user.Value.Replace('_', '-')))
            read.Wrong(user, $"'{user.Value}' is no name of a user");
        return words is null or { Count: 0 }
            ? null
            : new StepDefinition(name, [.. words.Select(w => w.Value)])
            {
                As = user?.Value,
                Limit = Within(map.Scalar("limit"), read) ?? StepDefinition.UsualLimit,
                KeepsAs = Kept(map.Scalar("keeps-as"), read),
                Note = map.Scalar("note")?.Value,
            };
    }

    /// <summary>The steps of a job; one that something else carries out has none.</summary>
    public static JobDefinition Of(JobDefinition job, MapReader map, ValueReader read)
    {
        if (job.Watched)
            foreach (var key in Around)
                if (map.Any(key) is { } odd)
                    read.Wrong(odd, $"'{key}' goes with jobs that Iron Keep carries out; take the line out, or 'watched: yes'");
        if (map.Scalar("patience") is { } patience && map.Any("until") is null)
            read.Wrong(patience, "'patience' goes with 'until', the step that says whether what went before took hold");
        var (watches, starts) = (map.Scalar("watches-service"), map.Scalar("starts-service"));
        if (watches is not null && starts is null)
            read.Wrong(watches, "'watches-service' needs to know how it is started: add 'starts-service: STEP'");
        foreach (var key in (string[])["starts-service", "starts-at-most"])
            if (watches is null && map.Scalar(key) is { } alone)
                read.Wrong(alone, $"'{key}' goes with 'watches-service', the step that says whether the service is up");
        return job with
        {
            WatchesService = read.Uses(watches, "step"),
            StartsService = read.Uses(starts, "step"),
            StartsAtMost = map.Scalar("starts-at-most") is { } most
                ? read.Sentence(most, StartCeiling.Read(most.Value)) ?? StartCeiling.Usual
                : StartCeiling.Usual,
            Streams = read.Uses(map.Strings("streams"), "step"),
            Before = read.Uses(map.Strings("before"), "step"),
            Until = read.Uses(map.Scalar("until"), "step"),
            Patience = Within(map.Scalar("patience"), read) ?? JobDefinition.UsualPatience,
            StillAt = Still(job, map, read),
            AfterSuccess = read.Uses(map.Strings("after-success"), "step"),
            AfterFailure = read.Uses(map.Strings("after-failure"), "step"),
            AlwaysAfter = read.Uses(map.Strings("always-after"), "step"),
        };
    }

    /// <summary>Each is of something that is taken: a slip of the pen must not take what moves meanwhile.</summary>
    private static ImmutableArray<StillFolder> Still(JobDefinition job, MapReader map, ValueReader read)
    {
        var all = new List<StillFolder>();
        foreach (var said in map.Strings("still-at") ?? [])
        {
            if (read.Sentence(said, StillFolder.Read(said.Value)) is not { } folder)
                continue;
            if (!job.Takes.Any(folder.Holds))
                read.Wrong(said, $"{folder.From} holds nothing that the job takes; name a folder under 'takes', or one that holds it");
            if (all.Exists(f => f.Holds(folder.From) || folder.Holds(f.From)))
                read.Wrong(said, $"{folder.From} and another folder of the list lie in each other; name the upper one alone");
            all.Add(folder);
        }
        return [.. all];
    }

    private static string? Kept(ScalarNode? node, ValueReader read)
    {
        if (
            node is not null
            && (node.Value is "." or ".." || node.Value.Length > LongestName || node.Value.Any(c => c == '/' || char.IsControl(c)))
        )
            read.Wrong(node, $"'{node.Value}' cannot be the name of a file; write one without '/', of at most {LongestName} characters");
        return node?.Value;
    }

    private static Span? Within(ScalarNode? node, ValueReader read)
    {
        var span = read.Span(node, atLeastOne: true);
        if (span is { } given && given.ToDuration() > LongestLimit)
            read.Wrong(node!, $"'{node!.Value}' is longer than a day; 24 hours are the most");
        return span;
    }
}
