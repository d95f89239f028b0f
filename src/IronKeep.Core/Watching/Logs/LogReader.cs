using NodaTime;

namespace IronKeep.Core.Watching.Logs;

/// <summary>
/// Reads a log by a set of rules, piece by piece as it is written, and finds the runs in it. It keeps the last run that is not over; those
/// that are go to <paramref name="over"/>. No clock, no file: <paramref name="now"/> is when the text was received, for times without a
/// year. Source: docs/semantics.md, section 9 (Rules for logs).
/// </summary>
public sealed class LogReader(LogRules rules, DateTimeZone zone, Instant now, Action<LogRun> over)
{
    private readonly LogMatcher matcher = new(rules.Rules.Select(r => r.Pattern));
    private readonly LogRule[] ignores = Of(rules, LogList.Ignores),
        begins = Of(rules, LogList.Begins),
        ends = Of(rules, LogList.Ends),
        figures = Of(rules, LogList.Figures);
    private readonly LogRule[] classes =
    [
        .. rules.Rules.Where(r => r.List is LogList.Ok or LogList.Warned or LogList.Failed).OrderByDescending(r => r.List),
    ];
    private readonly DateTimeZone zone = rules.Zone ?? zone;
    private string rest = "";
    private bool cut;
    private Instant? lastTime;

    /// <summary>Lines that were completed.</summary>
    public long Lines { get; private set; }

    /// <summary>Lines that were longer than is looked at.</summary>
    public long LongLines { get; private set; }

    /// <summary>The run that is not over.</summary>
    public LogRun? Open { get; private set; }

    /// <summary>When the text that comes now was received.</summary>
    public Instant Now { get; set; } = now;

    /// <summary>Asked of each line that counts, for who shows what each rule made of it.</summary>
    public Action<LogMark>? Marks { get; set; }

    private static LogRule[] Of(LogRules rules, LogList list) => [.. rules.Rules.Where(r => r.List == list)];

    /// <summary>Keeps the end of the text of the run that is not over, where somebody wants it.</summary>
    public LogText? Text { get; init; }

    /// <summary>Whether nothing waits for its end: no run, no line.</summary>
    public bool IsBetween => Open is null && rest.Length == 0 && !cut;

    /// <summary>Takes more text; a line that is not complete waits for its rest.</summary>
    public void Feed(ReadOnlySpan<char> text)
    {
        while (text.Length > 0)
        {
            if (rest.Length > 0 || cut)
            {
                var end = text.IndexOf('\n');
                Hold(end < 0 ? text : text[..end]);
                if (end < 0)
                    return;
                text = text[(end + 1)..];
                Line(rest);
                (rest, cut) = ("", false);
                continue;
            }
            var last = text.LastIndexOf('\n');
            if (last >= 0)
                Whole(text[..(last + 1)]);
            Hold(text[(last + 1)..]);
            return;
        }
    }

    /// <summary>A last line without an end is a line.</summary>
    public void Flush()
    {
        if (rest.Length == 0 && !cut)
            return;
        Line(rest);
        (rest, cut) = ("", false);
    }

    /// <summary>There is no more: the last run is over, ended or not.</summary>
    public void Finish()
    {
        Flush();
        Over();
    }

    private void Hold(ReadOnlySpan<char> piece)
    {
        var room = LogPattern.MostOfLine - rest.Length;
        if (piece.Length > room)
        {
            if (!cut)
                LongLines++;
            cut = true;
            piece = piece[..room];
        }
        if (piece.Length > 0)
            rest = rest.Length == 0 ? piece.ToString() : string.Concat(rest, piece);
    }

    /// <summary>Whole lines. Only those are looked at where a pattern may match, and the first line of a run.</summary>
    private void Whole(ReadOnlySpan<char> text)
    {
        Span<int> known = matcher.Searches <= 64 ? stackalloc int[matcher.Searches] : new int[matcher.Searches];
        known.Fill(-1);
        for (var from = 0; from < text.Length; )
        {
            // Where nothing says that a run begins, any line does.
            var any = Open is null && begins.Length == 0;
            var next = any ? from : matcher.NextIn(text, from, known);
            if (next >= text.Length)
            {
                Pass(text[from..]);
                return;
            }
            var start = next == from ? from : from + text[from..next].LastIndexOf('\n') + 1;
            Pass(text[from..start]);
            var length = text[start..].IndexOf('\n');
            var line = text.Slice(start, length);
            if (line.Length > LogPattern.MostOfLine)
            {
                LongLines++;
                line = line[..LogPattern.MostOfLine];
            }
            Line(line);
            from = start + length + 1;
        }
    }

    private void Pass(ReadOnlySpan<char> lines)
    {
        if (lines.Length == 0)
            return;
        Lines += lines.Count('\n');
        if (Open is not { } run)
            return;
        run.LastLine = Lines;
        Text?.Add(lines);
    }

    private void Line(ReadOnlySpan<char> line)
    {
        Lines++;
        if (line is [.., '\r'])
            line = line[..^1];
        if (Open is null && begins.Length == 0 && line.IsWhiteSpace())
            return;
        foreach (var rule in ignores)
            if (rule.Pattern.IsMatch(line))
            {
                if (Open is { } run)
                {
                    run.LastLine = Lines;
                    Text?.AddLine(line);
                }
                Marks?.Invoke(new LogMark(Lines, LogList.Ignores, Short(line)));
                return;
            }
        var began = false;
        foreach (var rule in begins)
        {
            if (!rule.Pattern.IsMatch(line))
                continue;
            if (!began)
                Begin();
            if (!began)
                Marks?.Invoke(new LogMark(Lines, LogList.Begins, Short(line)));
            began = true;
            if (Read(rule, line) is { } time)
                Open!.Began ??= time;
        }
        if (Open is null && begins.Length == 0)
            Begin();
        if (Open is null)
            return;
        Open.LastLine = Lines;
        Text?.AddLine(line);
        Judge(line);
        foreach (var rule in ends)
        {
            if (Open is null || !rule.Pattern.IsMatch(line))
                continue;
            Open.HasEnd = true;
            Marks?.Invoke(new LogMark(Lines, LogList.Ends, Short(line)));
            if (Read(rule, line) is { } time)
                Open.Ended = time;
            Over();
        }
    }

    private void Begin()
    {
        Over();
        Text?.Clear();
        Open = new LogRun { FirstLine = Lines, LastLine = Lines };
    }

    private void Over()
    {
        if (Open is not { } run)
            return;
        (Open, run.IsOver) = (null, true);
        run.Ended ??= rules.HasEnds ? null : run.LastTime;
        over(run);
    }

    /// <summary>The worst of the lists that match a line is its class; figures can make it worse.</summary>
    private void Judge(ReadOnlySpan<char> line)
    {
        LogMark? mark = null;
        var warns = false;
        foreach (var rule in classes)
        {
            if (mark is not null && (rule.List != mark.List || mark.Class is not null) && !rule.Pattern.Names.Any())
                continue;
            if (!rule.Pattern.IsMatch(line))
                continue;
            _ = Read(rule, line);
            if (mark is null)
                mark = new LogMark(Lines, rule.List, Short(line), rule.Class);
            else if (mark.List == rule.List && mark.Class is null)
                mark = mark with { Class = rule.Class };
        }
        warns = mark is { List: LogList.Warned };
        foreach (var rule in figures)
        {
            if (!rule.Pattern.IsMatch(line))
                continue;
            var read = new Figures();
            _ = Read(rule, line, read);
            Marks?.Invoke(new LogMark(Lines, LogList.Figures, Short(line)));
            if (read.Errors > 0 && mark is not { List: LogList.Failed })
                (mark, warns) = (new LogMark(Lines, LogList.Figures, Short(line), FailureClass.Reported), false);
            else if (read.Skipped > 0 && mark is null or { List: LogList.Ok })
                (mark, warns) = (new LogMark(Lines, LogList.Figures, Short(line)), true);
        }
        if (mark is null)
            return;
        if (mark.List != LogList.Figures)
            Marks?.Invoke(mark);
        if (warns)
            Open!.Warn(mark);
        else
            Open!.Deciding = mark;
    }

    private sealed class Figures
    {
        public long Errors { get; set; }
        public long Skipped { get; set; }
    }

    /// <summary>Takes the values that a rule reads from a line that it matches; the time among them is the answer.</summary>
    private Instant? Read(LogRule rule, ReadOnlySpan<char> line, Figures? figures = null)
    {
        if (rule.Pattern.Names.Count == 0)
            return null;
        var text = line.ToString();
        Instant? time = null;
        foreach (var (name, value) in rule.Pattern.ValuesOf(text))
        {
            switch (name)
            {
                case LogValues.Items:
                    if (LogValues.ReadWhole(value) is { } items)
                        (Open!.Items, Open.EmptyLine) = (items, items == 0 ? Empty(text) : Open.EmptyLine);
                    break;
                case LogValues.Bytes:
                    if (LogValues.ReadWhole(value) is { } bytes)
                        (Open!.Bytes, Open.EmptyLine) = (bytes, bytes == 0 ? Empty(text) : Open.EmptyLine);
                    break;
                case LogValues.Size:
                    if (LogValues.ReadSize(value) is { } size)
                        (Open!.Bytes, Open.EmptyLine) = (size, size == 0 ? Empty(text) : Open.EmptyLine);
                    break;
                case LogValues.Skipped:
                    if (LogValues.ReadWhole(value) is { } skipped)
                        Open!.Skipped = Note(skipped, f => f.Skipped = skipped);
                    break;
                case LogValues.Errors:
                    if (LogValues.ReadWhole(value) is { } errors)
                        Open!.Errors = Note(errors, f => f.Errors = errors);
                    break;
                case LogValues.Duration:
                    Open!.Seconds = LogValues.ReadDuration(value) ?? Open.Seconds;
                    break;
                case LogValues.Code:
                    if (LogValues.ReadCode(value) is { } code)
                        (Open!.Code, Open.CodeLine) = (code, Empty(text));
                    break;
                case LogValues.Time:
                    time = rules.Times.ReadAt(value, zone, Now, lastTime);
                    break;
                default:
                    Open!.Name(name, value);
                    break;
            }
        }
        if (time is not null)
            (lastTime, Open!.LastTime) = (time, time);
        return time;

        long Note(long value, Action<Figures> note)
        {
            if (figures is not null)
                note(figures);
            return value;
        }
    }

    private LogMark Empty(string line) => new(Lines, LogList.Figures, Short(line));

    private static string Short(ReadOnlySpan<char> line) => (line.Length > LogRun.MostOfText ? line[..LogRun.MostOfText] : line).ToString();
}
