using IronKeep.Runs.Backups;

namespace IronKeep.Runs.Tests;

/// <summary>The pattern syntax is that of .gitignore, so git itself is the referee.</summary>
public sealed class LeaveOutTests : IDisposable
{
    private readonly string folder = Directory.CreateTempSubdirectory("ignore-").FullName;

    public void Dispose() => Directory.Delete(folder, true);

    [Theory]
    [InlineData("*.tmp")]
    [InlineData("cache/")]
    [InlineData("/cache")]
    [InlineData("/a/b")]
    [InlineData("a/b")]
    [InlineData("**/b")]
    [InlineData("a/**")]
    [InlineData("a/**/c")]
    [InlineData("a/*/c")]
    [InlineData("?")]
    [InlineData("[a-b]*")]
    [InlineData("[!a]")]
    [InlineData("*.tmp", "!keep.tmp")]
    [InlineData("a/*", "!a/b", "c")]
    [InlineData("*", "!*/", "!*.wav")]
    [InlineData("\\!odd", "x.tmp")]
    [InlineData("b/", "!a/b/")]
    [InlineData("a**c")]
    public void Leaves_out_what_git_ignores(params string[] patterns) => Compare(patterns, "by hand");

    [Fact]
    public void Random_patterns_agree_with_git()
    {
        var seed = Environment.TickCount;
        var random = new Random(seed);
        string[] parts = ["a", "b", "c", "*", "?", "**", "keep.tmp", "*.tmp", "[ab]", "x*"];
        for (var round = 0; round < 60; round++)
        {
            var patterns = Enumerable
                .Range(0, random.Next(1, 4))
                .Select(_ =>
                    (random.Next(4) == 0 ? "!" : "")
                    + (random.Next(3) == 0 ? "/" : "")
                    + string.Join('/', Enumerable.Range(0, random.Next(1, 4)).Select(_ => parts[random.Next(parts.Length)]))
                    + (random.Next(4) == 0 ? "/" : "")
                )
                .ToArray();
            Compare(patterns, $"seed {seed}, round {round}");
        }
    }

    private void Compare(string[] patterns, string where)
    {
        if (!Directory.Exists(folder + "/.git"))
        {
            Listing.Shell(
                "git init -q . && mkdir -p a/b/c b/c cache x/cache && touch a/one.tmp a/keep.tmp a/b/c/x.tmp a/b/c/call.wav b/c/keep.tmp "
                    + "'!odd' cache/f x/cache/f c xy",
                folder
            );
        }
        File.WriteAllLines(folder + "/.gitignore", patterns);
        var leaveOuts = new LeaveOuts(patterns);
        var ours = new List<string>();
        Walk("", ours);
        // What git would add is what is taken; folders themselves are not in its list.
        var its = Listing
            .Shell(
                "git -c core.excludesFile=/dev/null -c core.quotePath=off ls-files --others --exclude-per-directory=.gitignore | LC_ALL=C "
                    + "sort",
                folder
            )
            .Split('\n', StringSplitOptions.RemoveEmptyEntries)
            .Where(f => f != ".gitignore")
            .ToList();
        Assert.True(
            its.SequenceEqual(ours.Where(f => f != ".gitignore").Order(StringComparer.Ordinal)),
            $"{where}: {string.Join("  ", patterns)}\ngit takes {string.Join(' ', its)}\nwe take  "
                + $"{string.Join(' ', ours.Order(StringComparer.Ordinal))}"
        );

        void Walk(string at, List<string> taken)
        {
            foreach (var entry in new DirectoryInfo(Path.Combine(folder, at)).EnumerateFileSystemInfos())
            {
                var path = at.Length == 0 ? entry.Name : $"{at}/{entry.Name}";
                var isFolder = entry is DirectoryInfo;
                if (path == ".git" || leaveOuts.Matches(path, isFolder))
                    continue;
                if (isFolder)
                    Walk(path, taken);
                else
                    taken.Add(path);
            }
        }
    }
}
