using System.Collections.Concurrent;
using System.Text.Json;
using System.Text.RegularExpressions;

namespace IronKeep.EndToEnd.Tests;

/// <summary>What holds of every command of the client, found by walking its own help, so that a new one is held to it as well.</summary>
public sealed partial class EveryCommandTests : IDisposable
{
    private readonly Programs programs = new();

    public void Dispose() => programs.Dispose();

    /// <summary>Arguments of which the text has the right form, though there is no such thing.</summary>
    private static readonly Dictionary<string, string> Samples = new()
    {
        ["ALERT"] = "4711",
        ["RUN"] = "4711",
        ["ID"] = "4711",
        ["SESSION"] = "4711",
        ["KIND"] = "policy",
        ["FIELD=VALUE"] = "keep=newest 3",
        ["FILE"] = "/no/such/file",
        ["FOLDER"] = "/no/such/folder",
        ["PATH"] = "/no/such/path",
        ["A"] = "current",
        ["B"] = "current",
        ["SCHEDULE"] = "daily at 23:00",
        ["COMMAND"] = "true",
    };

    private static readonly Dictionary<string, string> NeededOptions = new()
    {
        ["--reason"] = "because of the flood",
        ["--until"] = "3 days",
        ["--to"] = "/no/such/target",
        ["--name"] = "nobody",
        ["--file"] = "/no/such/file",
    };

    /// <summary>What needs no service, or speaks to one in a way of its own.</summary>
    private static readonly string[] WorksAlone = ["sign-in", "watch", "deliver", "completion", "rescue", "try", "manual"];

    private sealed record Leaf(string[] Words, string Help)
    {
        public override string ToString() => "ironkeep " + string.Join(' ', Words);

        public IEnumerable<string> Arguments =>
            Help.Contains("Arguments:", StringComparison.Ordinal)
                ? ArgumentLine().Matches(Help[Help.IndexOf("Arguments:", StringComparison.Ordinal)..]).Select(m => m.Groups[1].Value)
                : [];

        public IEnumerable<string> Needed => NeededLine().Matches(Help).Select(m => m.Groups[1].Value);
    }

    private async Task<List<Leaf>> LeavesAsync(params string[] words)
    {
        var said = await programs.ClientAsync([.. words, "--help"]);
        Assert.True(said.ExitCode == 0, said.ToString());
        var at = said.Out.IndexOf("\nCommands:", StringComparison.Ordinal);
        var below = at < 0 ? [] : CommandLine().Matches(said.Out[at..]).Select(m => m.Groups[1].Value).ToList();
        if (below.Count == 0)
            return [new Leaf(words, said.Out)];
        var leaves = new List<Leaf>();
        foreach (var part in below.Chunk(4))
            leaves.AddRange((await Task.WhenAll(part.Select(b => LeavesAsync([.. words, b])))).SelectMany(l => l));
        // A group with arguments of its own is a command as well.
        if (ArgumentLine().IsMatch(said.Out[..at]))
            leaves.Add(new Leaf(words, said.Out[..at]));
        return leaves;
    }

    private Task<Said> TryAsync(Leaf leaf, params string[] more) =>
        programs.ClientAsync([
            .. leaf.Words,
            .. leaf.Arguments.Select(a => Samples.GetValueOrDefault(a, "nobody")),
            .. leaf.Needed.SelectMany(n => new[] { n, NeededOptions.GetValueOrDefault(n, "nothing") }),
            .. more,
        ]);

    [Fact]
    public async Task Every_command_explains_itself_refuses_what_it_does_not_know_and_says_when_no_service_answers()
    {
        var leaves = await LeavesAsync();
        Assert.True(leaves.Count > 60, $"only {leaves.Count} commands were found");
        var wrong = new ConcurrentQueue<string>();
        foreach (var part in leaves.Chunk(4))
            await Task.WhenAll(part.Select(HoldAsync));
        Assert.True(wrong.IsEmpty, string.Join("\n", wrong));

        async Task HoldAsync(Leaf leaf)
        {
            var description = leaf.Help.Split('\n').SkipWhile(l => l != "Description:").Skip(1).First().Trim();
            Check(description.Length > 10 && char.IsUpper(description[0]), "does not describe itself", leaf.Help);
            // What is given to a wrapped command is the command's own affair.
            if (leaf.Words[0] == "watch")
                return;
            var odd = await programs.ClientAsync([.. leaf.Words, "--no-such-option"]);
            Check(odd.ExitCode == 2 && !IsTrace(odd), "takes an option that there is not", odd.ToString());
            if (WorksAlone.Contains(leaf.Words[0]) || leaf.Arguments.Contains("FILE") || leaf.Words is ["charter", "adopt"])
                return;
            var alone = await TryAsync(leaf, "--url", "http://127.0.0.1:1");
            if (alone.ExitCode != 2)
                Check(
                    alone.ExitCode == 4 && alone.Error.Contains("cannot be reached", StringComparison.Ordinal) && !IsTrace(alone),
                    "does not end with 4 and say who is away",
                    alone.ToString()
                );

            void Check(bool holds, string what, string said)
            {
                if (!holds)
                    wrong.Enqueue($"{leaf} {what}: {said}");
            }
        }
    }

    /// <summary>Asked for something that is not there, each command names it, ends with 3, and gives no half-finished JSON.</summary>
    [Fact]
    public async Task Every_command_that_names_something_says_when_it_is_not_there_and_every_list_is_json()
    {
        await programs.BeginAsync();
        var wrong = new ConcurrentQueue<string>();
        foreach (var part in (await LeavesAsync()).Where(l => !WorksAlone.Contains(l.Words[0])).Chunk(4))
            await Task.WhenAll(part.Select(HoldAsync));
        Assert.True(wrong.IsEmpty, string.Join("\n", wrong));

        async Task HoldAsync(Leaf leaf)
        {
            // Takes a secret or a password from a person; makes something new of any name.
            if (
                leaf.Words
                is ["person", "add" or "password"]
                    or ["store", "key", "add"]
                    or ["timetable", "subscribe"]
                    or ["service", "rename-machine"]
            )
                return;
            var said = await TryAsync(leaf, "--output", "json");
            // Nothing found is an answer of its own.
            if (leaf.Words is ["copy", "find"])
            {
                if (said.ExitCode != 1)
                    wrong.Enqueue($"{leaf} finds what is not there: {said}");
                return;
            }
            if (IsTrace(said))
                wrong.Enqueue($"{leaf} shows where it failed: {said}");
            if (leaf.Arguments.Any(a => a is not ("FILE" or "FOLDER" or "A" or "B")))
            {
                if (said.ExitCode is not (2 or 3) || said.Error.Length == 0)
                    wrong.Enqueue($"{leaf} does not say what is not there: {said}");
                if (said.Error.Contains("/api/v1", StringComparison.Ordinal) || said.Error.Contains("HTTP", StringComparison.Ordinal))
                    wrong.Enqueue($"{leaf} speaks of the API to a person: {said}");
            }
            else if (said.ExitCode == 0 && leaf.Help.Contains("--output", StringComparison.Ordinal) && leaf.Words[^1] != "export")
            {
                try
                {
                    JsonDocument.Parse(said.Out);
                }
                catch (JsonException e)
                {
                    wrong.Enqueue($"{leaf} does not answer with JSON ({e.Message}): {said}");
                }
            }
        }
    }

    /// <summary>The rest of what a person does in a month: who may come in, what is told, matters closed by hand.</summary>
    [Fact]
    public async Task People_sessions_channels_and_matters_are_looked_after_through_the_client()
    {
        await programs.BeginAsync();
        var added = await programs.ClientWithInputAsync("a long enough password\n", "person", "add", "tove", "--password-stdin");
        Assert.True(added.ExitCode == 0, added.ToString());
        Assert.Matches("mira[^$]*tove", (await Ok("person", "list")).Out);
        var twice = await programs.ClientWithInputAsync("a long enough password\n", "person", "add", "tove", "--password-stdin");
        Assert.True(twice.ExitCode != 0 && twice.Error.Contains("tove", StringComparison.Ordinal), twice.ToString());
        var weak = await programs.ClientWithInputAsync("short\n", "person", "add", "finn", "--password-stdin");
        Assert.True(weak.ExitCode != 0 && weak.Error.Contains("10 to 200", StringComparison.Ordinal), weak.ToString());
        await Ok("person", "remove", "tove");
        Assert.DoesNotContain("tove", (await Ok("person", "list")).Out);
        var last = await programs.ClientAsync("person", "remove", "mira");
        Assert.True(last.ExitCode == 3 && last.Error.Contains("mira", StringComparison.Ordinal), last.ToString());
        Assert.Equal(0, (await programs.ClientAsync("session", "list")).ExitCode);

        // A way to be told that writes into a folder, tried before it is needed.
        var post = Directory.CreateDirectory(programs.Root + "/post").FullName;
        await Ok(
            "definition",
            "set",
            "channel",
            "post",
            "mail-to=night@saltmere.example",
            "mail-from=keep@saltmere.example",
            $"pickup={post}",
            "--new"
        );
        Assert.Contains("post", (await Ok("channel", "list")).Out);
        await Ok("channel", "test", "post");
        Assert.Contains("Iron Keep", await File.ReadAllTextAsync(Directory.EnumerateFiles(post).Single()));

        // A run that fails, its log, its alert from the first look to a reason for closing it.
        Directory.Delete(programs.Source);
        var failed = await programs.ClientAsync("job", "run", "by-hand");
        Assert.Equal(4, failed.ExitCode);
        Assert.Contains(programs.Source, failed.Out);
        var run = Json(await Ok("run", "list", "--outcome", "failed", "--output", "json"))[0].GetProperty("id").GetInt64();
        Assert.Contains(programs.Source, (await Ok("run", "log", $"{run}")).Out);
        Assert.Empty(Json(await Ok("run", "list", "--outcome", "suspect", "--output", "json")).EnumerateArray());
        var late = await programs.ClientAsync("run", "cancel", $"{run}");
        Assert.True(late.ExitCode == 3 && late.Error.Contains("ended already", StringComparison.Ordinal), late.ToString());
        var right = await programs.ClientAsync("run", "confirm", $"{run}");
        Assert.True(right.ExitCode == 3 && right.Error.Contains("not suspect", StringComparison.Ordinal), right.ToString());
        var alert = Json(await SaysAsync(1, "alert", "list", "--output", "json"))[0];
        var id = $"{alert.GetProperty("id").GetInt64()}";
        Assert.Contains("by-hand", (await SaysAsync(1, "alert", "list", "--class", "failed")).Out);
        await Ok("alert", "acknowledge", id);
        Assert.Contains("mira", (await SaysAsync(1, "alert", "list")).Out);
        await Ok("alert", "close", id, "--reason", "the disk was moved on purpose");
        Assert.DoesNotContain("by-hand", (await Ok("alert", "list")).Out);
        var again = await programs.ClientAsync("alert", "close", id, "--reason", "once more");
        Assert.True(again.ExitCode == 3 && again.Error.Contains(id, StringComparison.Ordinal), again.ToString());

        // Times are this terminal's, and UTC when that is asked for.
        var there = await SaysAsync(4, "run", "show", $"{run}");
        var utc = await SaysAsync(4, "run", "show", $"{run}", "--utc");
        Assert.Matches(@"\d{4}-\d\d-\d\d \d\d:\d\d", there.Out);
        Assert.Contains("Z", utc.Out);
        Assert.DoesNotMatch(@"\d:\d\d\.\d{4}", there.Out + utc.Out);
    }

    private static JsonElement Json(Said said) => JsonSerializer.Deserialize<JsonElement>(said.Out);

    private Task<Said> Ok(params string[] args) => SaysAsync(0, args);

    private async Task<Said> SaysAsync(int exitCode, params string[] args)
    {
        var said = await programs.ClientAsync(args);
        Assert.True(said.ExitCode == exitCode, $"ironkeep {string.Join(' ', args)}: {said}");
        return said;
    }

    private static bool IsTrace(Said said) =>
        said.Error.Contains("   at ", StringComparison.Ordinal)
        || said.Out.Contains("   at ", StringComparison.Ordinal)
        || said.Error.Contains("Unhandled", StringComparison.Ordinal);

    [GeneratedRegex(@"^  ([a-z][a-z-]*)", RegexOptions.Multiline)]
    private static partial Regex CommandLine();

    [GeneratedRegex(@"^  <([A-Z][A-Z=]*)>", RegexOptions.Multiline)]
    private static partial Regex ArgumentLine();

    [GeneratedRegex(@"^  (?:-\w, )?(--[a-z-]+) .*\(REQUIRED\)", RegexOptions.Multiline)]
    private static partial Regex NeededLine();
}
