using System.Collections.Immutable;
using System.Globalization;
using System.Text.RegularExpressions;
using IronKeep.Core.Machines;
using IronKeep.Core.Schedules;
using IronKeep.Core.Watching;
using IronKeep.Core.Watching.Logs;
using NodaTime;

namespace IronKeep.Core.Charters;

/// <summary>A line of a crontab that was not taken over whole: its number from 1, its text, and why.</summary>
public sealed record NotAdopted(int Line, string Text, string Why);

/// <summary>
/// Makes watched jobs of the lines of a crontab: the schedule as a sentence where one says the same, else as its five fields; the
/// command as a note; where its output goes to a file or to syslog, how it is heard, with rules to begin with. Nothing is run. Words that
/// look like secrets are left out of the note.
/// </summary>
public sealed partial record CrontabAdoption(Charter Charter, ImmutableArray<NotAdopted> NotAdopted)
{
    private const string LeftOut = "***";

    /// <summary>
    /// Reads a crontab of a machine. <paramref name="zone"/> is the zone that the machine's clock shows, unless a line CRON_TZ says
    /// otherwise; <paramref name="withUser"/> when a user's name stands between schedule and command, as in the system's own crontab.
    /// </summary>
    public static CrontabAdoption Read(string text, string machine, DateTimeZone zone, bool withUser)
    {
        var jobs = ImmutableSortedDictionary.CreateBuilder<string, JobDefinition>(StringComparer.Ordinal);
        var rules = ImmutableSortedDictionary.CreateBuilder<string, LogRules>(StringComparer.Ordinal);
        var not = ImmutableArray.CreateBuilder<NotAdopted>();
        var own = zone;
        var number = 0;
        foreach (var raw in text.Split('\n'))
        {
            number++;
            var line = raw.Trim();
            if (line.Length == 0 || line[0] == '#')
                continue;
            if (Assignment().Match(line) is { Success: true } assignment)
            {
                var (name, value) = (assignment.Groups[1].Value, assignment.Groups[2].Value.Trim('"', '\''));
                if (name != "CRON_TZ")
                    not.Add(
                        new NotAdopted(
                            number,
                            Redacted(line),
                            $"the variable {name} is for the commands; a watched job does not carry them out"
                        )
                    );
                else if (DateTimeZoneProviders.Tzdb.GetZoneOrNull(value) is { } named)
                    own = named;
                else
                    not.Add(new NotAdopted(number, line, $"there is no time zone '{value}'; the lines below are taken in {own.Id}"));
                continue;
            }
            var (when, command) = Split(line, withUser);
            if (command.Length == 0)
            {
                not.Add(
                    new NotAdopted(
                        number,
                        Redacted(line),
                        withUser ? "a schedule, a user and a command are expected" : "a schedule and a command are expected"
                    )
                );
                continue;
            }
            var (schedule, problem) = CrontabFields.Read(when);
            if (schedule is not CrontabSchedule fields)
            {
                not.Add(new NotAdopted(number, Redacted(line), problem!.Message));
                continue;
            }
            var note = Redacted(command);
            if (note != command)
                not.Add(
                    new NotAdopted(
                        number,
                        note,
                        "something that looks like a secret was left out of the note; keep secrets in files that only the command can read"
                    )
                );
            if (Percent().IsMatch(command))
                not.Add(
                    new NotAdopted(
                        number,
                        note,
                        "what stands behind the first '%' is given to the command as its input; the note keeps it as it stands"
                    )
                );
            var job = new JobDefinition(FreeName(command, jobs), [], [], "")
            {
                Watched = true,
                Selection = MachineSelection.Of(machine),
                When = fields.AsSentence() ?? fields,
                Note = note,
                Zone = own.Equals(zone) ? null : own,
            };
            job = Heard(job, command) ?? job;
            if (job.LogRules is not null)
            {
                rules[job.Name] = FirstRules(job.Name);
                not.Add(
                    new NotAdopted(
                        number,
                        note,
                        $"its output goes to {(job.Logs.Length > 0 ? job.Logs[0] : $"syslog as {job.Syslog[0]}")}, so it is heard by that; "
                            + $"the rules '{job.Name}' are a beginning: try them with 'ironkeep try log' on what it wrote, and put in the "
                            + $"line that says that all went well"
                    )
                );
            }
            else if (Output().IsMatch(command))
                not.Add(
                    new NotAdopted(
                        number,
                        note,
                        "its output goes to a file in a folder whose name changes; give it a folder of its own, and it can be heard by its "
                            + "log"
                    )
                );
            jobs[job.Name] = job;
        }
        var charter = Charter.Empty with
        {
            Zone = zone,
            Machines = Charter.Empty.Machines.Add(machine, new MachineDefinition(machine, null, null)),
            LogRules = rules.ToImmutable(),
            Jobs = jobs.ToImmutable(),
        };
        return new CrontabAdoption(charter, not.ToImmutable());
    }

    /// <summary>
    /// The job with the log that its command writes, or the name under which it speaks to syslog; null where its output goes nowhere that
    /// lasts.
    /// </summary>
    private static JobDefinition? Heard(JobDefinition job, string command)
    {
        if (ToSyslog().Match(command) is { Success: true } said)
            return job with { HeardBy = [EvidenceSource.Syslog], Syslog = [said.Groups[1].Value], LogRules = job.Name };
        // Errors alone are no log of a run.
        var file = Output()
            .Matches(command)
            .Select(m => m.Groups[1].Success ? m.Groups[1].Value : m.Groups[2].Value)
            .LastOrDefault(f => f != "/dev/null");
        if (file is null)
            return null;
        var slash = file.LastIndexOf('/');
        // What the shell puts in, such as today's date, is anything.
        var name = Replaced().Replace(file[(slash + 1)..].Replace("\\%", "%", StringComparison.Ordinal), "*");
        return name.Length == 0 || Unclear().IsMatch(file[..slash].Replace('*', '$')) || Unclear().IsMatch(name)
            ? null
            : job with
            {
                HeardBy = [EvidenceSource.Log],
                Logs = [$"{file[..slash]}/{name}"],
                LogRules = job.Name,
            };
    }

    private static LogRules FirstRules(string name) =>
        new(
            name,
            [
                .. new (LogList List, string Text)[]
                {
                    (LogList.Ok, "done"),
                    (LogList.Warned, "warning"),
                    (LogList.Failed, "error"),
                    (LogList.Failed, "fatal"),
                    (LogList.Failed, "cannot *"),
                    (LogList.Failed, "no space left"),
                }.Select(r => new LogRule(r.List, LogPattern.Read(r.Text, LogTimes.Usual).Pattern!)),
            ]
        );

    private static (string When, string Command) Split(string line, bool withUser)
    {
        var words = withUser ? 1 : 0;
        words += line[0] == '@' ? 1 : 5;
        var schedule = line[0] == '@' ? 1 : 5;
        var at = 0;
        var end = 0;
        for (var word = 0; word < words; word++)
        {
            while (at < line.Length && char.IsWhiteSpace(line[at]))
                at++;
            while (at < line.Length && !char.IsWhiteSpace(line[at]))
                at++;
            if (word + 1 == schedule)
                end = at;
        }
        return (line[..end], line[at..].Trim());
    }

    /// <summary>A name from the command's program: the last part of the first path or word that is none of the usual wrappers.</summary>
    private static string FreeName(string command, ImmutableSortedDictionary<string, JobDefinition>.Builder taken)
    {
        string[] wrappers =
        [
            "nice",
            "ionice",
            "sudo",
            "env",
            "bash",
            "sh",
            "cd",
            "test",
            "exec",
            "timeout",
            "flock",
            "chronic",
            "root",
            "python3",
            "perl",
        ];
        var words = command.Split([' ', '\t', ';', '&', '|'], StringSplitOptions.RemoveEmptyEntries);
        var program = words.FirstOrDefault(w =>
            w[0] != '-' && w.Any(char.IsAsciiLetter) && !w.Contains('=') && !char.IsAsciiDigit(w[0]) && !wrappers.Contains(w.Split('/')[^1])
        ) ?? "job";
        var last = program.TrimEnd('/').Split('/')[^1].ToLowerInvariant();
        if (last.LastIndexOf('.') is > 0 and var dot)
            last = last[..dot];
        var name = NotOfName().Replace(last, "-").Trim('-');
        name = name.Length == 0 ? "job" : name[..Math.Min(name.Length, 50)].Trim('-');
        var free = name;
        for (var n = 2; taken.ContainsKey(free); n++)
            free = string.Create(CultureInfo.InvariantCulture, $"{name}-{n}");
        return free;
    }

    private static string Redacted(string command) => UserInfo().Replace(Secret().Replace(command, "$1" + LeftOut), "$1" + LeftOut + "@");

    [GeneratedRegex(@"^\s*([A-Za-z_][A-Za-z0-9_]*)\s*=\s*(.*)$")]
    private static partial Regex Assignment();

    [GeneratedRegex(@"(?<!\\)%")]
    private static partial Regex Percent();

    /// <summary>Output to a file, or through tee into one.</summary>
    [GeneratedRegex(@"(?:(?<![0-9>])|(?<=\s1)|&)>>?\s*(/(?:\$\([^)]*\)|[^\s;&|])+)|\|\s*tee\s+(?:-a\s+)?(/(?:\$\([^)]*\)|[^\s;&|])+)")]
    private static partial Regex Output();

    [GeneratedRegex(@"\|\s*logger\s(?:[^;&|]*\s)?(?:-t|--tag)[\s=]*([A-Za-z0-9_.-]+)")]
    private static partial Regex ToSyslog();

    [GeneratedRegex(@"[$`""'\\?]")]
    private static partial Regex Unclear();

    [GeneratedRegex(@"\$\([^)]*\)|`[^`]*`|\$\{[^}]*\}|\$[A-Za-z_]+")]
    private static partial Regex Replaced();

    [GeneratedRegex(
        @"(?i)((?:^|[\s""'])-{0,2}[\w-]*(?:password|passwd|passphrase|secret|token|api-?key|pwd)[\w-]*(?:\s*=\s*|\s+)|"
            + @"(?<=mysql\w*\s(?:[^|;&]*\s)?)-p(?=\S))(?:""[^""]*""|'[^']*'|[^\s;&|]+)"
    )]
    private static partial Regex Secret();

    [GeneratedRegex(@"(\w+://[^\s:/@]*:)[^\s@/]+@")]
    private static partial Regex UserInfo();

    [GeneratedRegex(@"[^a-z0-9]+")]
    private static partial Regex NotOfName();
}
