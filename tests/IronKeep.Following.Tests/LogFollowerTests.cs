using System.Diagnostics;
using System.Text;
using System.Text.Json;
using IronKeep.Core.Charters;
using IronKeep.Core.Watching.Logs;
using IronKeep.Yaml;
using NodaTime;

namespace IronKeep.Following.Tests;

/// <summary>Logs on a real file system, rotated by the real logrotate: every run is found once, whatever happens to its file.</summary>
public sealed class LogFollowerTests : IDisposable
{
    private readonly string root = Directory.CreateTempSubdirectory("logs-").FullName;
    private readonly List<string> ids = [];
    private readonly List<string> runs = [];
    private Instant now = SystemClock.Instance.GetCurrentInstant();
    private LogFollower? follower;
    private FollowState kept = FollowState.Empty,
        previous = FollowState.Empty;
    private string yaml = "begins: 'begin {what}'\nends: end\nok: done\nfailed: bad";
    private string path;
    private List<string> problems = [];

    public LogFollowerTests() => path = root + "/job.log";

    public void Dispose()
    {
        follower?.Dispose();
        Directory.Delete(root, true);
    }

    private void Write(string text, string name = "job.log") => File.AppendAllText($"{root}/{name}", text);

    private void Night(int n, string name = "job.log") => Write($"begin n{n}\nsome line {n}\ndone {n}\nend\n", name);

    private void Look()
    {
        var (root, _) = CharterYaml.ReadNodes(yaml);
        follower ??= new LogFollower(path, LogRulesReader.Read(root!, "x").Rules!, DateTimeZone.Utc, kept);
        previous = kept;
        var looked = follower.Look(now);
        problems = [.. looked.Problems];
        foreach (var found in looked.Runs.Where(r => r.IsOver))
        {
            // What is told again is told under the same id.
            if (ids.Contains(found.Id))
                continue;
            ids.Add(found.Id);
            runs.Add(
                found.Run.Named.GetValueOrDefault("what", "")
                    + (found.Run.HasEnd || !yaml.Contains("ends", StringComparison.Ordinal) ? "" : "?")
            );
        }
        // As it travels through the catalogue.
        kept = JsonSerializer.Deserialize<FollowState>(JsonSerializer.Serialize(follower.State))!;
    }

    /// <summary>Another process takes up where the state says; one that died before it kept the state takes up earlier.</summary>
    private void Restart(FollowState? from = null)
    {
        follower?.Dispose();
        follower = null;
        if (from is not null)
            kept = from;
    }

    private void Shell(string command)
    {
        using var run = Process.Start(new ProcessStartInfo("sh", ["-c", command]) { WorkingDirectory = root })!;
        run.WaitForExit();
        Assert.Equal(0, run.ExitCode);
    }

    private void Rotate(string how)
    {
        File.WriteAllText(root + "/conf", $"{path} {{\n  rotate 5\n  size 1\n  missingok\n  {how}\n}}\n");
        Shell($"chmod 644 conf; /usr/sbin/logrotate -f -s {root}/status {root}/conf");
    }

    [Theory]
    [InlineData("nocompress")]
    [InlineData("copytruncate")]
    [InlineData("compress")]
    [InlineData("compress\n  copytruncate")]
    [InlineData("compress\n  delaycompress")]
    [InlineData("dateext\n  dateformat -%Y%m%d-%s")]
    [InlineData("compress\n  compresscmd /usr/bin/zstd\n  compressext .zst\n  compressoptions -q --rm")]
    public void Every_run_is_found_once_through_rotation_with_restarts_between_any_two_steps(string how)
    {
        var night = 0;
        var random = new Random(7);
        Look();
        for (var round = 0; round < 12; round++)
        {
            Night(++night);
            if (random.Next(2) == 0)
                Look();
            if (random.Next(3) == 0)
                Restart(random.Next(2) == 0 ? previous : null);
            if (random.Next(2) == 0)
                Night(++night);
            // Half a run, then rotation, then the other half.
            Write($"begin n{++night}\nfirst ");
            if (random.Next(2) == 0)
                Look();
            Write("half\n");
            if (random.Next(2) == 0)
                Look();
            if (how.Contains("dateext", StringComparison.Ordinal))
                Thread.Sleep(1100);
            Rotate(how + (how.Contains("copytruncate", StringComparison.Ordinal) ? "" : "\n  create 644"));
            if (random.Next(3) == 0)
                Restart(random.Next(2) == 0 ? previous : null);
            if (random.Next(2) == 0)
                Look();
            Write("second half\ndone\nend\n");
            Look();
            if (random.Next(3) == 0)
                Restart();
        }
        Look();
        // Several rotations between two looks, of files that begin alike, may come in another order; none is lost, none comes twice.
        Assert.Equal(Enumerable.Range(1, night).Select(n => $"n{n}").Order(StringComparer.Ordinal), runs.Order(StringComparer.Ordinal));
        Assert.Empty(problems);
    }

    [Fact]
    public void After_a_downtime_over_several_rotations_the_predecessors_are_read_first()
    {
        Night(1);
        Look();
        Restart();
        now += Duration.FromDays(1);
        foreach (var n in new[] { 2, 3, 4 })
        {
            Night(n);
            Rotate("compress\n  create 644");
        }
        Night(5);
        Look();
        Assert.True(
            runs.SequenceEqual(["n1", "n2", "n3", "n4", "n5"]),
            $"{string.Join(' ', runs)}; {string.Join("; ", problems)}; {JsonSerializer.Serialize(kept)} "
                + $"{string.Join(' ', Directory.GetFiles(root))}"
        );
    }

    [Fact]
    public void A_file_replaced_while_nobody_looked_is_read_anew_and_what_may_be_lost_is_said()
    {
        Night(1);
        Look();
        Write("begin n2\nhalf of it\n");
        Look();
        File.Delete(path);
        Night(3);
        Look();
        // The half that was read belongs to a run that another one ended.
        Assert.Equal(["n1", "n2?", "n3"], runs);
        Assert.Contains("was replaced", Assert.Single(problems));
        File.WriteAllText(path, "begin n4\nsame inode, other content, longer than before: " + new string('x', 500) + "\ndone\nend\n");
        Look();
        Assert.Equal("n4", runs[^1]);
    }

    [Fact]
    public void Partial_lines_carriage_returns_and_other_encodings_are_one_text()
    {
        Write("begin n1\r\ndo");
        Look();
        Write("ne\r\nend");
        Look();
        Assert.Empty(runs);
        Write("\r\n");
        Look();
        Assert.Equal(["n1"], runs);
        var wide = new UnicodeEncoding(false, true);
        File.WriteAllBytes(path + ".new", [.. wide.GetPreamble(), .. wide.GetBytes("begin öffnet\ndone\nend\n")]);
        File.Move(path + ".new", path, overwrite: true);
        Look();
        Assert.Equal("öffnet", runs[^1]);
    }

    [Fact]
    public void Without_an_end_a_run_is_over_when_nothing_was_written_for_so_long()
    {
        yaml = "ok: done\nquiet-after: 5 minutes";
        Write("one line\ndone\n");
        Look();
        Assert.Empty(runs);
        now += Duration.FromMinutes(4);
        Write("another\n");
        Look();
        now += Duration.FromMinutes(4);
        Look();
        Assert.Empty(runs);
        Restart();
        Look();
        now += Duration.FromMinutes(6);
        Look();
        Assert.Single(runs);
    }

    [Fact]
    public void A_name_with_a_star_follows_each_file_and_a_link_or_a_folder_without_rights_is_said_and_never_read()
    {
        path = root + "/tide-*.log";
        Night(1, "tide-a.log");
        Look();
        Night(2, "tide-b.log");
        Night(3, "other.log");
        Look();
        Assert.Equal(["n1", "n2"], runs);
        File.WriteAllText(root + "/secret", "begin stolen\nend\n");
        File.CreateSymbolicLink(root + "/tide-c.log", root + "/secret");
        Look();
        Assert.Equal(2, runs.Count);
        Assert.Contains("symbolic link", Assert.Single(problems));
        Shell("rm tide-c.log; mkfifo tide-d.log; mkdir tide-e.log");
        Night(4, "tide-a.log");
        Look();
        Assert.Equal("n4", runs[^1]);
    }

    [Fact]
    public void A_broken_predecessor_is_named_and_a_long_one_is_read_to_its_end()
    {
        Night(1);
        Look();
        // More than is read of a growing file at a time, written and rotated between two looks.
        Write("begin n2\n" + string.Concat(Enumerable.Repeat(new string('x', 1023) + "\n", 70 * 1024)) + "done\nend\n");
        Rotate("create 644");
        File.WriteAllText(root + "/job.log.7.gz", "this is no gzip");
        Night(3);
        Look();
        Assert.Equal(["n1", "n2", "n3"], runs);
        Assert.Contains("job.log.7.gz is broken", Assert.Single(problems));
        var state = kept;
        Look();
        Assert.Equal(state.Streams["job.log"], kept.Streams["job.log"]);
        Night(4);
        Look();
        Assert.Equal("n4", runs[^1]);
    }

    [Fact]
    public void Lines_of_two_jobs_in_one_file_are_each_its_own_by_their_begins()
    {
        yaml = "begins: 'begin {what} photos'\nends: end photos\nok: done";
        Write("begin n1 photos\nbegin n9 mail\ndone\nend mail\nend photos\nbegin n2 photos\ndone\nend photos\n");
        Look();
        Assert.Equal(["n1", "n2"], runs);
    }

    /// <summary>The quick question, asked in place of a look: it says no whenever a look would find something.</summary>
    [Fact]
    public void A_glance_passes_over_nothing_that_a_look_would_find()
    {
        yaml = "begins: 'begin {what}'\nok: done\nquiet-after: 5 minutes";
        Write("begin n1\ndone\n");
        var (rules, _) = CharterYaml.ReadNodes(yaml);
        follower = new LogFollower(path, LogRulesReader.Read(rules!, "x").Rules!, DateTimeZone.Utc, kept);
        Assert.False(follower.IsStill(now));
        Look();
        Assert.True(follower.IsStill(now));
        // A run that is over because nothing came after it.
        now += Duration.FromMinutes(5);
        Assert.False(follower.IsStill(now));
        Look();
        Assert.Equal(["n1"], runs);
        Assert.True(follower.IsStill(now));
        Write("b");
        Assert.False(follower.IsStill(now));
        Look();
        Assert.True(follower.IsStill(now));
        // Another of the same length in its place, and none.
        Shell("cp job.log other; mv other job.log");
        Assert.False(follower.IsStill(now));
        Look();
        Assert.True(follower.IsStill(now));
        File.Delete(path);
        Assert.False(follower.IsStill(now));
    }
}
