using System.Collections.Immutable;
using System.Globalization;
using System.Text.RegularExpressions;
using IronKeep.Core.Schedules;
using NodaTime;

namespace IronKeep.Core.Charters;

/// <summary>A line of a crontab that was not taken over whole: its number from 1, its text, and why.</summary>
public sealed record NotAdopted(int Line, string Text, string Why);

/// <summary>
/// Makes watched jobs of the lines of a crontab: the schedule as a sentence where one says the same, else as its five fields; the
/// command as a note. Nothing is run. Words that look like secrets are left out of the note.
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
        var not = ImmutableArray.CreateBuilder<NotAdopted>();
        var own = zone;
        var number = 0;
        foreach (var raw in text.Split('\n'))
        {
            number++;
            var line = raw.Trim();
            if (line.Length == 0 || line[0] == '#') continue;
            if (Assignment().Match(line) is { Success: true } assignment)
            {
                var (name, value) = (assignment.Groups[1].Value, assignment.Groups[2].Value.Trim('"', '\''));
                if (name != "CRON_TZ") not.Add(new NotAdopted(number, Redacted(line), $"the variable {name} is for the commands; a watched job does not carry them out"));
                else if (DateTimeZoneProviders.Tzdb.GetZoneOrNull(value) is { } named) own = named;
                else not.Add(new NotAdopted(number, line, $"there is no time zone '{value}'; the lines below are taken in {own.Id}"));
                continue;
            }
            var (when, command) = Split(line, withUser);
            if (command.Length == 0)
            {
                not.Add(new NotAdopted(number, Redacted(line), withUser ? "a schedule, a user and a command are expected" : "a schedule and a command are expected"));
                continue;
            }
            var (schedule, problem) = CrontabFields.Read(when);
            if (schedule is not CrontabSchedule fields)
            {
                not.Add(new NotAdopted(number, Redacted(line), problem!.Message));
                continue;
            }
            var note = Redacted(command);
            if (note != command) not.Add(new NotAdopted(number, note, "something that looks like a secret was left out of the note; keep secrets in files that only the command can read"));
            if (Percent().IsMatch(command)) not.Add(new NotAdopted(number, note, "what stands behind the first '%' is given to the command as its input; the note keeps it as it stands"));
            var job = new JobDefinition(FreeName(command, jobs), [], [], "") { Watched = true, On = machine, When = fields.AsSentence() ?? fields, Note = note, Zone = own.Equals(zone) ? null : own };
            jobs[job.Name] = job;
        }
        var charter = Charter.Empty with { Zone = zone, Machines = Charter.Empty.Machines.Add(machine, new MachineDefinition(machine, null, null)), Jobs = jobs.ToImmutable() };
        return new CrontabAdoption(charter, not.ToImmutable());
    }

    private static (string When, string Command) Split(string line, bool withUser)
    {
        var words = withUser ? 1 : 0;
        words += line[0] == '@' ? 1 : 5;
        var schedule = line[0] == '@' ? 1 : 5;
        var at = 0;
        var end = 0;
        for (var word = 0; word < words; word++)
        {
            while (at < line.Length && char.IsWhiteSpace(line[at])) at++;
            while (at < line.Length && !char.IsWhiteSpace(line[at])) at++;
            if (word + 1 == schedule) end = at;
        }
        return (line[..end], line[at..].Trim());
    }

    /// <summary>A name from the command's program: the last part of the first path or word that is none of the usual wrappers.</summary>
    private static string FreeName(string command, ImmutableSortedDictionary<string, JobDefinition>.Builder taken)
    {
        string[] wrappers = ["nice", "ionice", "sudo", "env", "bash", "sh", "cd", "test", "exec", "timeout", "flock", "chronic", "root", "python3", "perl"];
        var words = command.Split([' ', '\t', ';', '&', '|'], StringSplitOptions.RemoveEmptyEntries);
        var program = words.FirstOrDefault(w => w[0] != '-' && w.Any(char.IsAsciiLetter) && !w.Contains('=') && !char.IsAsciiDigit(w[0]) && !wrappers.Contains(w.Split('/')[^1])) ?? "job";
        var last = program.TrimEnd('/').Split('/')[^1].ToLowerInvariant();
        if (last.LastIndexOf('.') is > 0 and var dot) last = last[..dot];
        var name = NotOfName().Replace(last, "-").Trim('-');
        name = name.Length == 0 ? "job" : name[..Math.Min(name.Length, 50)].Trim('-');
        var free = name;
        for (var n = 2; taken.ContainsKey(free); n++) free = string.Create(CultureInfo.InvariantCulture, $"{name}-{n}");
        return free;
    }

    private static string Redacted(string command) => UserInfo().Replace(Secret().Replace(command, "$1" + LeftOut), "$1" + LeftOut + "@");

    [GeneratedRegex(@"^\s*([A-Za-z_][A-Za-z0-9_]*)\s*=\s*(.*)$")]
    private static partial Regex Assignment();

    [GeneratedRegex(@"(?<!\\)%")]
    private static partial Regex Percent();

    [GeneratedRegex(@"(?i)((?:^|[\s""'])-{0,2}[\w-]*(?:password|passwd|passphrase|secret|token|api-?key|pwd)[\w-]*(?:\s*=\s*|\s+)|(?<=mysql\w*\s(?:[^|;&]*\s)?)-p(?=\S))(?:""[^""]*""|'[^']*'|[^\s;&|]+)")]
    private static partial Regex Secret();

    [GeneratedRegex(@"(\w+://[^\s:/@]*:)[^\s@/]+@")]
    private static partial Regex UserInfo();

    [GeneratedRegex(@"[^a-z0-9]+")]
    private static partial Regex NotOfName();
}
