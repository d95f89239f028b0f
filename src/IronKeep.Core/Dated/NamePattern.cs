using System.Collections.Immutable;
using System.Globalization;
using System.Text;
using System.Text.RegularExpressions;
using IronKeep.Core.Quantities;
using NodaTime;

namespace IronKeep.Core.Dated;

/// <summary>
/// A pattern over the path of a file below its folder: text as it is, {yyyy} {MM} {dd} {HH} {mm} {ss} digits, {job} {machine} names, {kind}
/// one of the words of the kinds, * any text without a slash; a backslash takes the next character as it is. A path matches as a whole or
/// not at all, in time linear in its length. Source: docs/semantics.md, section 10 (Dated files).
/// </summary>
public sealed class NamePattern
{
    private const int MostLength = 1000;
    private static readonly string[] Times = ["yyyy", "MM", "dd", "HH", "mm", "ss"];
    private static readonly string[] Fields = [.. Times, "job", "machine", "kind"];
    private readonly Regex whole;
    private readonly ImmutableArray<Regex> levels;
    private readonly ImmutableArray<(string Field, string Group)> groups;

    private NamePattern(string text, ImmutableArray<(CopyKind Kind, string Word)> kinds, List<PatternPart> parts)
    {
        (Text, Kinds) = (text, kinds);
        var named = new List<(string, string)>();
        var level = new List<PatternPart>();
        var made = ImmutableArray.CreateBuilder<Regex>();
        foreach (var part in parts)
        {
            if (part.Field is not null)
                named.Add((part.Field, $"f{named.Count}"));
            if (part is { Field: null, Literal: '/' })
            {
                made.Add(Compile(level, []));
                level = [];
            }
            else
                level.Add(part);
        }
        (levels, groups, whole) = (made.ToImmutable(), [.. named], Compile(parts, [.. named.Select(n => n.Item2)]));
        HasJob = parts.Exists(p => p.Field == "job");
        HasMachine = parts.Exists(p => p.Field == "machine");
        HasKind = parts.Exists(p => p.Field == "kind");
        HasHour = parts.Exists(p => p.Field == "HH");
    }

    public string Text { get; }
    public ImmutableArray<(CopyKind Kind, string Word)> Kinds { get; }
    public bool HasJob { get; }
    public bool HasMachine { get; }
    public bool HasKind { get; }
    public bool HasHour { get; }

    /// <summary>How many folders deep the files lie; 0: in the folder itself.</summary>
    public int Depth => levels.Length;

    /// <summary>Whether a folder of that name, so many folders deep, can hold files that match.</summary>
    public bool EntersFolder(int depth, string name) => depth < levels.Length && levels[depth].IsMatch(name);

    /// <summary>What the path of a file says; null when it does not match exactly, or names a day or time that does not exist.</summary>
    public DatedName? Match(string path)
    {
        var match = whole.Match(path);
        // A name with a line break in it would be two in every list.
        if (!match.Success || path.Any(char.IsControl))
            return null;
        string? job = null,
            machine = null,
            kind = null;
        int? year = null,
            month = null,
            day = null,
            hour = null,
            minute = null,
            second = null;
        foreach (var (field, group) in groups)
        {
            var value = match.Groups[group].Value;
            // A field that stands twice says the same both times.
            var same = field switch
            {
                "job" => Take(ref job, value),
                "machine" => Take(ref machine, value),
                "kind" => Take(ref kind, value),
                "yyyy" => TakeNumber(ref year, value),
                "MM" => TakeNumber(ref month, value),
                "dd" => TakeNumber(ref day, value),
                "HH" => TakeNumber(ref hour, value),
                "mm" => TakeNumber(ref minute, value),
                _ => TakeNumber(ref second, value),
            };
            if (!same)
                return null;
        }
        if (
            year is < 1
            || month is < 1 or > 12
            || day < 1
            || day > CalendarSystem.Iso.GetDaysInMonth(year!.Value, month!.Value)
            || hour > 23
            || minute > 59
            || second > 59
        )
            return null;
        var time = new LocalDateTime(year.Value, month!.Value, day!.Value, hour ?? 0, minute ?? 0, second ?? 0);
        return new DatedName(job, machine, kind is null ? null : Kinds.First(k => k.Word == kind).Kind, time);
    }

    private static bool Take(ref string? known, string value)
    {
        if (known is not null && known != value)
            return false;
        known = value;
        return true;
    }

    private static bool TakeNumber(ref int? known, string value)
    {
        var number = int.Parse(value, NumberStyles.None, CultureInfo.InvariantCulture);
        if (known is { } before && before != number)
            return false;
        known = number;
        return true;
    }

    /// <summary>Reads a pattern with the words of its kinds; the problem says what is wrong with it.</summary>
    public static (NamePattern? Pattern, string? Problem) Read(string text, ImmutableArray<(CopyKind Kind, string Word)> kinds)
    {
        if (text.Length > MostLength)
            return (null, $"the pattern has {text.Length} characters; {MostLength} are the most");
        if (text.StartsWith('/'))
            return (null, $"'{text}' begins with a slash; write the path below the store's folder");
        var parts = new List<PatternPart>();
        for (var at = 0; at < text.Length; at++)
        {
            switch (text[at])
            {
                case '\\' when at + 1 < text.Length:
                    parts.Add(new PatternPart(text[++at], null, null));
                    break;
                case '*':
                    parts.Add(PatternPart.Star);
                    break;
                case '{':
                    var end = text.IndexOf('}', at);
                    if (end < 0)
                        return (null, $"'{text}' opens a brace and does not close it; write \\{{ for a brace in the name");
                    var field = text[(at + 1)..end];
                    if (!Fields.Contains(field))
                        return (
                            null,
                            $"'{{{field}}}' is not known here; "
                                + (
                                    Nearest.To(field, Fields) is { } near
                                        ? $"did you mean '{{{near}}}'?"
                                        : $"use {string.Join(", ", Fields.Select(f => $"{{{f}}}"))}"
                                )
                        );
                    parts.Add(new PatternPart('\0', field, field == "kind" ? [.. kinds.Select(k => k.Word)] : null));
                    at = end;
                    break;
                default:
                    parts.Add(new PatternPart(text[at], null, null));
                    break;
            }
        }
        return Problem(text, parts, kinds) is { } problem ? (null, problem) : (new NamePattern(text, kinds, parts), null);
    }

    private static string? Problem(string text, List<PatternPart> parts, ImmutableArray<(CopyKind Kind, string Word)> kinds)
    {
        foreach (var needed in Times.Take(3))
            if (!parts.Exists(p => p.Field == needed))
                return $"'{text}' does not say the day: {{{needed}}} is missing; a copy's time is read from {{yyyy}}, {{MM}} and {{dd}}";
        if (parts.Exists(p => p.Field == "mm") && !parts.Exists(p => p.Field == "HH"))
            return $"'{text}' has minutes without hours; add {{HH}}";
        if (parts.Exists(p => p.Field == "ss") && !parts.Exists(p => p.Field == "mm"))
            return $"'{text}' has seconds without minutes; add {{mm}}";
        var named = parts.Exists(p => p.Field == "kind");
        if (named && kinds.Length == 0)
            return "'{kind}' needs the words that stand there: add 'kinds: {full: F, incremental: I}'";
        if (!named && kinds.Length > 0)
            return "there are kinds, but the name does not tell them apart: put {kind} where their words stand";
        if (kinds.Length > 0 && !kinds.Any(k => k.Kind == CopyKind.Full))
            return "the kinds name no full copy, so every other would lack what it needs: add 'full'";
        var names = text.Split('/');
        if (Array.Exists(names, n => n.Length == 0 || n is "." or ".."))
            return $"'{text}' has an empty name, '.' or '..' between its slashes; write the path below the store's folder plainly";
        if (Array.Exists(names, n => n.StartsWith(".ironkeep", StringComparison.Ordinal)))
            return $"names that begin with .ironkeep are the service's own; '{text}' cannot use them";
        return PatternAmbiguity.Find(parts) is { } twofold
            ? $"names that match '{text}' cannot be told apart: one could be read with {{{twofold.Field}}} ending in two places; put a "
                + $"character between that neither side can hold, such as '_' or '.'"
            : null;
    }

    private static Regex Compile(List<PatternPart> parts, ImmutableArray<string> named)
    {
        var text = new StringBuilder(@"\A");
        var next = 0;
        foreach (var part in parts)
        {
            if (part.Field is null)
            {
                text.Append(part.IsStar ? "[^/]*" : Regex.Escape(part.Literal.ToString()));
                continue;
            }
            text.Append(named.Length > 0 ? $"(?<{named[next++]}>" : "(?:")
                .Append(
                    part.Field switch
                    {
                        "job" or "machine" => "[a-z0-9](?:[a-z0-9-]*[a-z0-9])?",
                        "kind" => string.Join('|', part.Words!.Select(Regex.Escape)),
                        "yyyy" => "[0-9]{4}",
                        _ => "[0-9]{2}",
                    }
                )
                .Append(')');
        }
        return new Regex(
            text.Append(@"\z").ToString(),
            RegexOptions.NonBacktracking | RegexOptions.CultureInvariant | RegexOptions.Singleline
        );
    }
}

/// <summary>A piece of a name pattern: a character, a field, or any text.</summary>
internal sealed record PatternPart(char Literal, string? Field, string[]? Words)
{
    public static PatternPart Star { get; } = new('*', null, []);

    public bool IsStar => Field is null && Words is not null;
}
