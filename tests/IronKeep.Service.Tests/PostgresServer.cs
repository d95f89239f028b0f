using System.Diagnostics;
using Npgsql;

namespace IronKeep.Service.Tests;

/// <summary>
/// A real PostgreSQL of the tests' own, in a folder of its own on a free port, started when it is first asked for and stopped with the
/// process.
/// </summary>
internal static class PostgresServer
{
    private static readonly Lazy<string> Started = new(Start);
    private static readonly string Programs = Directory.Exists("/usr/lib/postgresql")
        ? Directory.EnumerateDirectories("/usr/lib/postgresql").Order().Last() + "/bin"
        : "";

    /// <summary>Whether the service's suite is to keep its catalogues there.</summary>
    public static bool IsWanted { get; } = Environment.GetEnvironmentVariable("IRONKEEP_TEST_CATALOGUE") == "postgres";

    /// <summary>The connection string of a new database.</summary>
    public static string NewDatabase(string? template = null)
    {
        var name = $"t{Guid.NewGuid():n}"[..20];
        Execute("postgres", $"CREATE DATABASE {name}{(template is null ? "" : $" TEMPLATE {template}")}");
        return For(name);
    }

    public static string For(string database) => $"{Started.Value};Database={database}";

    public static void Drop(string catalogue)
    {
        NpgsqlConnection.ClearAllPools();
        Execute("postgres", $"DROP DATABASE IF EXISTS {new NpgsqlConnectionStringBuilder(catalogue).Database} WITH (FORCE)");
    }

    public static void Execute(string database, string sql)
    {
        using var connection = new NpgsqlConnection($"{Started.Value};Database={database};Pooling=false");
        connection.Open();
        using var command = new NpgsqlCommand(sql, connection);
        command.ExecuteNonQuery();
    }

    private static string Start()
    {
        var folder = Directory.CreateTempSubdirectory("ironkeep-postgres-").FullName;
        Run("chown", "postgres", folder);
        Run(
            "runuser",
            "-u",
            "postgres",
            "--",
            $"{Programs}/initdb",
            "-D",
            $"{folder}/data",
            "-A",
            "trust",
            "-E",
            "UTF8",
            "--locale=C.UTF-8",
            "--no-sync"
        );
        using var free = new System.Net.Sockets.TcpListener(System.Net.IPAddress.Loopback, 0);
        free.Start();
        var port = ((System.Net.IPEndPoint)free.LocalEndpoint).Port;
        free.Stop();
        // Nothing here outlives the machine: what the tests kill are services, never this server.
        Run(
            "runuser",
            "-u",
            "postgres",
            "--",
            $"{Programs}/pg_ctl",
            "-D",
            $"{folder}/data",
            "-w",
            "-s",
            "-l",
            $"{folder}/log",
            "-o",
            $"-p {port} -c listen_addresses=127.0.0.1 -c unix_socket_directories={folder} -c fsync=off -c synchronous_commit=off -c "
                + $"full_page_writes=off -c max_connections=400",
            "start"
        );
        AppDomain.CurrentDomain.ProcessExit += (_, _) =>
        {
            Run("runuser", "-u", "postgres", "--", $"{Programs}/pg_ctl", "-D", $"{folder}/data", "-m", "immediate", "-s", "stop");
            Run("rm", "-rf", folder);
        };
        return $"Host=127.0.0.1;Port={port};Timeout=120;Username=postgres";
    }

    private static void Run(string program, params string[] arguments)
    {
        using var process = Process.Start(
            new ProcessStartInfo(program, arguments)
            {
                RedirectStandardOutput = true,
                RedirectStandardError = true,
                WorkingDirectory = "/",
            }
        )!;
        // The server keeps the pipes open for its life; only what comes before the end of the command is read.
        if (!process.WaitForExit(300_000) || process.ExitCode != 0)
            throw new InvalidOperationException(
                $"{program} {string.Join(' ', arguments)} ended with {(process.HasExited ? process.ExitCode : "no end")}"
            );
    }
}
