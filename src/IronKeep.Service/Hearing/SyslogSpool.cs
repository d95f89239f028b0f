using System.Collections.Concurrent;
using IronKeep.Core.Charters;
using IronKeep.Core.Schedules;
using IronKeep.Core.Watching;
using IronKeep.Core.Watching.Logs;
using IronKeep.Following.Syslog;
using IronKeep.Service.Basics;
using IronKeep.Service.Charters;
using IronKeep.Stores.Posix;
using Microsoft.Extensions.Options;

namespace IronKeep.Service.Hearing;

/// <summary>
/// Lines of syslog that are of a watched job, written to a file for each job and host, which is followed like any log: so they survive a
/// restart, and a run that has begun goes on. A file that has grown is put aside once; nobody can fill the disk by it.
/// </summary>
public sealed class SyslogSpool(CharterInForce inForce, IOptions<ServiceSettings> settings) : IDisposable
{
    private const long MostOfFile = 16 * 1024 * 1024;
    private const int MostHosts = 200;
    private readonly Lock gate = new();
    private readonly Dictionary<string, FileStream> open = [];
    private Charter? routedFor;
    private Route[] routes = [];

    private sealed record Route(string Job, string App, string? Host, LogPattern[] Text);

    /// <summary>Messages that no job wants.</summary>
    public long Unwanted { get; private set; }

    /// <summary>The path, with its wildcard, under which a job's lines are followed.</summary>
    public string PathOf(string job) =>
        Path.Combine(Directory.CreateDirectory(Path.Combine(settings.Value.DataFolder, "syslog", job), OwnFiles.Folder).FullName, "*.log");

    /// <summary>Keeps the messages that jobs want; safe for several threads.</summary>
    public void Take(IReadOnlyList<SyslogMessage> messages, string sender)
    {
        lock (gate)
        {
            Reroute();
            foreach (var message in messages)
            {
                var wanted = false;
                foreach (var route in routes)
                    if (Fits(route, message))
                    {
                        Write(route.Job, HostOf(message, sender), message.Text);
                        wanted = true;
                    }
                if (!wanted)
                    Unwanted++;
            }
            foreach (var file in open.Values)
                file.Flush();
        }
    }

    private void Reroute()
    {
        var charter = inForce.Charter;
        if (ReferenceEquals(routedFor, charter))
            return;
        routes =
        [
            .. from job in charter.Placed.All
            where job.Watched && job.HeardBy.Contains(EvidenceSource.Syslog)
            from name in job.Syslog
            let at = name.IndexOf('@', StringComparison.Ordinal)
            select new Route(
                job.Key,
                at < 0 ? name : name[..at],
                    // Of a job on several machines each hears its own lines.
                    job.IsOnSeveral
                        ? job.Machine
                    : at < 0 ? null
                    : name[(at + 1)..],
                [.. job.SyslogText.Select(t => LogPattern.Read(t, LogTimes.Usual).Pattern!)]
            ),
        ];
        routedFor = charter;
    }

    private static bool Fits(Route route, SyslogMessage message) =>
        route.App == message.App
        && (
            route.Host is null
            || message.Host is { } host
                && (
                    host.Equals(route.Host, StringComparison.OrdinalIgnoreCase)
                    || host.Split('.')[0].Equals(route.Host, StringComparison.OrdinalIgnoreCase)
                )
        )
        && (route.Text.Length == 0 || Array.Exists(route.Text, p => p.IsMatch(message.Text)));

    /// <summary>A name for a file, whatever the host calls itself: with its domain or without.</summary>
    private static string HostOf(SyslogMessage message, string sender)
    {
        var host = message.Host ?? sender;
        if (!System.Net.IPAddress.TryParse(host, out _))
            host = host.Split('.')[0];
        var name = new string([.. host.ToLowerInvariant().Take(100).Select(c => char.IsAsciiLetterOrDigit(c) || c == '-' ? c : '-')]).Trim(
            '-'
        );
        return name.Length == 0 ? "unnamed" : name;
    }

    private void Write(string job, string host, string text)
    {
        var path = PathOf(job).Replace("*", host, StringComparison.Ordinal);
        if (!open.TryGetValue(path, out var file))
        {
            // Whoever makes up hosts writes into one file.
            if (open.Count >= MostHosts && !File.Exists(path))
                path = PathOf(job).Replace("*", "others", StringComparison.Ordinal);
            if (!open.TryGetValue(path, out file))
                open[path] = file = Append(path);
        }
        if (file.Length > MostOfFile)
        {
            file.Dispose();
            File.Move(path, path + ".1", overwrite: true);
            open[path] = file = Append(path);
        }
        file.Write(System.Text.Encoding.UTF8.GetBytes(text + "\n"));
    }

    private static FileStream Append(string path) =>
        new(
            path,
            new FileStreamOptions
            {
                Mode = FileMode.Append,
                Access = FileAccess.Write,
                Share = FileShare.ReadWrite | FileShare.Delete,
                UnixCreateMode = UnixFileMode.UserRead | UnixFileMode.UserWrite,
            }
        );

    public void Dispose()
    {
        lock (gate)
        {
            foreach (var file in open.Values)
                file.Dispose();
            open.Clear();
        }
    }
}
