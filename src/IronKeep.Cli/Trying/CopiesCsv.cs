using IronKeep.Core.Quantities;
using IronKeep.Core.Retention;
using IronKeep.Core.Watching;
using NodaTime.Text;

namespace IronKeep.Cli.Trying;

/// <summary>Reads copies from CSV (RFC 4180) with the header id,taken,state,base,held. Every refusal names its line.</summary>
internal static class CopiesCsv
{
    private const string Header = "id,taken,state,base,held";

    public static List<CopyFacts> Read(string text)
    {
        var copies = new List<CopyFacts>();
        var seen = new HashSet<string>();
        var number = 0;
        foreach (var line in text.Split('\n').Select(l => l.TrimEnd('\r')))
        {
            number++;
            if (number == 1)
            {
                if (line.TrimStart('\uFEFF').Trim() != Header)
                    throw TryCommands.NotUnderstood($"line 1: the header is '{line}'; write '{Header}'");
                continue;
            }
            if (line.Length == 0)
                continue;
            var fields = Fields(line, number);
            if (fields.Count != 5)
                throw TryCommands.NotUnderstood($"line {number}: has {Counted.Of(fields.Count, "field")}, not 5; the header is '{Header}'");
            if (fields[0].Length == 0)
                throw TryCommands.NotUnderstood($"line {number}: the id is empty");
            if (!seen.Add(fields[0]))
                throw TryCommands.NotUnderstood($"line {number}: the id '{fields[0]}' stands twice; ids are unique");
            if (OffsetDateTimePattern.Rfc3339.Parse(fields[1]) is not { Success: true } taken)
                throw TryCommands.NotUnderstood($"line {number}: '{fields[1]}' is not an instant; write 2026-07-15T12:00:00Z");
            if (Kebab.Read<CopyState>(fields[2]) is not { } state)
                throw TryCommands.NotUnderstood(
                    $"line {number}: '{fields[2]}' is not a state; use unchecked, sound, unsound, partial or missing"
                );
            if (fields[4] is not ("" or "yes"))
                throw TryCommands.NotUnderstood($"line {number}: 'held' is '{fields[4]}'; write yes, or leave it empty");
            copies.Add(
                new CopyFacts(
                    fields[0],
                    taken.Value.ToInstant(),
                    state,
                    fields[3].Length == 0 ? null : fields[3],
                    fields[4] == "yes" ? "by the list" : null
                )
            );
        }
        if (number == 1 && copies.Count == 0 && text.Length == 0)
            throw TryCommands.NotUnderstood($"the list is empty; begin it with '{Header}'");
        return copies;
    }

    private static List<string> Fields(string line, int number)
    {
        var fields = new List<string>();
        var at = 0;
        while (true)
        {
            if (at < line.Length && line[at] == '"')
            {
                var field = new System.Text.StringBuilder();
                for (at++; ; at++)
                {
                    if (at >= line.Length)
                        throw TryCommands.NotUnderstood($"line {number}: a quote is not closed");
                    if (line[at] != '"')
                        field.Append(line[at]);
                    else if (at + 1 < line.Length && line[at + 1] == '"')
                        field.Append(line[at++]);
                    else
                        break;
                }
                fields.Add(field.ToString());
                at++;
            }
            else
            {
                var end = line.IndexOf(',', at);
                if (end < 0)
                    end = line.Length;
                fields.Add(line[at..end].Trim());
                at = end;
            }
            if (at >= line.Length)
                return fields;
            if (line[at] != ',')
                throw TryCommands.NotUnderstood($"line {number}: a comma is missing behind a quote");
            at++;
            if (at == line.Length)
            {
                fields.Add("");
                return fields;
            }
        }
    }
}
