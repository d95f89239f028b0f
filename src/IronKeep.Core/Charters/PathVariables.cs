using System.Collections.Immutable;
using System.Diagnostics.CodeAnalysis;
using System.Text;
using IronKeep.Core.Quantities;

namespace IronKeep.Core.Charters;

/// <summary>
/// What differs from machine to machine in the paths of a job: <c>{machine}</c>, <c>{site}</c>, <c>{owner}</c>, and <c>{tag disk}</c>, the
/// rest of the machine's one tag that begins with <c>disk-</c>. A brace that is meant is written twice. Source: docs/charter.md,
/// "Many machines".
/// </summary>
public static class PathVariables
{
    private const string Tag = "tag ";

    /// <summary>The job with its paths as they are on a machine; what the machine does not say stays as it is written.</summary>
    public static JobDefinition In(JobDefinition job, MachineDefinition? machine, string name)
    {
        if (!Paths(job).Any(p => p.AsSpan().ContainsAny('{', '}')))
            return job;
        string On(string path) => Fill(path, machine, name, out var filled) is null ? filled! : path;
        return job with { Takes = [.. job.Takes.Select(On)], Logs = [.. job.Logs.Select(On)] };
    }

    /// <summary>The paths of a job that may have variables.</summary>
    public static IEnumerable<string> Paths(JobDefinition job) => job.Takes.Concat(job.Logs);

    /// <summary>
    /// Fills a path for a machine (null: one that is not declared). Null when done, else the problem, as the end of a sentence.
    /// </summary>
    public static string? Fill(string path, MachineDefinition? machine, string name, out string? filled)
    {
        var text = new StringBuilder();
        filled = null;
        for (var i = 0; i < path.Length; i++)
        {
            var c = path[i];
            if (c is '{' or '}' && i + 1 < path.Length && path[i + 1] == c)
            {
                text.Append(c);
                i++;
            }
            else if (c == '}')
                return "has a '}' without a '{' before it; a brace that is meant is written twice";
            else if (c == '{')
            {
                if (path.IndexOf('}', i) is not (> 0 and var end))
                    return "has a '{' without a '}'; a brace that is meant is written twice";
                if (Value(path[(i + 1)..end], machine, name, out var value) is { } problem)
                    return problem;
                text.Append(value);
                i = end;
            }
            else
                text.Append(c);
        }
        filled = text.ToString();
        return null;
    }

    private static string? Value(string variable, MachineDefinition? machine, string name, [NotNull] out string? value)
    {
        value = variable switch
        {
            "machine" => name,
            "site" => machine?.Site,
            "owner" => machine?.Owner,
            _ => null,
        };
        if (value is not null)
            return null;
        value = "";
        if (variable is "site" or "owner")
            return $"needs the {variable} of {name}, which is not declared; give the machine '{variable}: NAME'";
        if (variable.StartsWith(Tag, StringComparison.Ordinal))
        {
            var begin = variable[Tag.Length..].Trim() + "-";
            ImmutableArray<string> fitting = [.. (machine?.Tags ?? []).Where(t => t.StartsWith(begin, StringComparison.Ordinal))];
            if (fitting.Length != 1)
                return $"needs one tag of {name} that begins with '{begin}', and it has "
                    + (fitting.IsEmpty ? "none" : Counted.Named([.. fitting]))
                    + $"; give the machine 'tags: {begin}VALUE'";
            value = fitting[0][begin.Length..];
            return null;
        }
        var near = Nearest.To(variable, ["machine", "site", "owner"]);
        return $"has '{{{variable}}}', which is no variable; "
            + (near is null ? "use {machine}, {site}, {owner} or {tag NAME}" : $"did you mean '{{{near}}}'?")
            + ", or write a brace that is meant twice";
    }
}
