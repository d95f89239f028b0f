using System.Diagnostics;
using IronKeep.Contracts;
using IronKeep.Core.Watching;
using Npgsql;

namespace IronKeep.Service.Tests;

/// <summary>A real database as a stream: dumped by its own client, kept, given back, and restored into another database.</summary>
public sealed class StreamRunTests
{
    [Fact]
    public async Task A_database_is_dumped_by_its_client_and_restored_into_another()
    {
        var (source, target) = (PostgresServer.NewDatabase(), PostgresServer.NewDatabase());
        var from = new NpgsqlConnectionStringBuilder(source);
        PostgresServer.Execute(
            from.Database!,
            "CREATE TABLE ringings (ring int PRIMARY KEY, species text); "
                + "INSERT INTO ringings SELECT i, md5(i::text) FROM generate_series(1, 50000) i"
        );
        await using var bench = await Bench.StartAsync();
        string[] at = ["--host", from.Host!, "--port", $"{from.Port}", "--username", "postgres"];
        var words = string.Join(", ", (string[])["pg_dump", .. at.Select(w => $"'{w}'"), "--format=custom", $"'{from.Database}'"]);
        await File.WriteAllTextAsync($"{bench.Root}/agent.yaml", $"allows:\n  dump: {{ command: [{words}] }}\n");
        File.SetUnixFileMode($"{bench.Root}/agent.yaml", (UnixFileMode)0b110_100_100);
        bench.More = [$"--IronKeep:AllowedCommands={bench.Root}/agent.yaml"];
        await bench.RestartAsync();
        var steps = $"steps:\n  dump: {{ command: [{words}], keeps-as: register.dump }}\njobs:";
        await bench.ApplyAsync(bench.Charter(more: "streams: dump").Replace("jobs:", steps, StringComparison.Ordinal));
        var run = await bench.BackUpAsync();
        Assert.True(run.Outcome == Outcome.Ok, run.Sentence);

        var back = $"{bench.Root}/back";
        var copy = Assert.Single(await bench.CopiesAsync());
        await bench.RunAsync($"copies/{copy.Id}/restores", new RestoreRequest(["/.streams"], back));
        var to = new NpgsqlConnectionStringBuilder(target).Database!;
        using var restoring = Process.Start(
            "pg_restore",
            [.. at, "--no-owner", "--exit-on-error", "--dbname", to, $"{back}/.streams/dump/register.dump"]
        );
        await restoring.WaitForExitAsync();
        Assert.Equal(0, restoring.ExitCode);
        Assert.Equal(await SumAsync(source), await SumAsync(target));

        // The server is away: no half copy, and the client's own words.
        await bench.ApplyAsync(
            bench
                .Charter(more: "streams: dump")
                .Replace("jobs:", steps.Replace($"'{from.Port}'", "'1'", StringComparison.Ordinal), StringComparison.Ordinal)
        );
        await File.WriteAllTextAsync(
            $"{bench.Root}/agent.yaml",
            $"allows:\n  dump: {{ command: [{words.Replace($"'{from.Port}'", "'1'", StringComparison.Ordinal)}] }}\n"
        );
        var failed = await bench.BackUpAsync();
        Assert.Equal((Outcome.Failed, FailureClass.HookFailed), (failed.Outcome, failed.Failure));
        Assert.Contains("step dump, whose output is taken, ended with 1", failed.Sentence!, StringComparison.OrdinalIgnoreCase);
        Assert.Single(await bench.CopiesAsync());
        PostgresServer.Drop(source);
        PostgresServer.Drop(target);
    }

    private static async Task<string> SumAsync(string database)
    {
        await using var connection = new NpgsqlConnection(database);
        await connection.OpenAsync();
        await using var command = new NpgsqlCommand(
            "SELECT count(*) || ' ' || md5(string_agg(ring || species, ',' ORDER BY ring)) FROM ringings",
            connection
        );
        return (string)(await command.ExecuteScalarAsync())!;
    }
}
