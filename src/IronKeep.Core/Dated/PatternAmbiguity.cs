namespace IronKeep.Core.Dated;

/// <summary>
/// Whether some name could be read in two ways by a pattern, so that a field would have two values. Exact: two readings of one name go
/// through the pattern side by side, and the search ends when both have come to its end and have put a character into different fields.
/// </summary>
internal static class PatternAmbiguity
{
    /// <summary>One step over a character: which it may be, into what it goes, and what may come next.</summary>
    private sealed class Step(int index, Func<char, bool> takes, string probe, PatternPart part, int place)
    {
        public int Index => index;
        public Func<char, bool> Takes => takes;
        public string Probe => probe;
        public PatternPart Part => part;
        public int Place => place;
        public List<int> Next { get; } = [];
    }

    private const string NameLetters = "az09-";

    public static PatternPart? Find(List<PatternPart> parts)
    {
        var (steps, starts) = Build(parts);
        var end = steps.Count;
        // Characters that stand for all: every literal, those at the edges of the classes, and one that is in none but *.
        var probes = steps.SelectMany(s => s.Probe).Concat(NameLetters).Append('~').Where(c => c != '/').Append('/').Distinct().ToArray();
        var seen = new HashSet<(int, int, int)>();
        var queue = new Queue<(int A, int B, int Part)>();
        foreach (var a in starts)
        foreach (var b in starts)
            Push(a, b, -1);
        while (queue.TryDequeue(out var at))
        {
            if (at.A == end && at.B == end)
            {
                if (at.Part >= 0)
                    return parts[at.Part];
                continue;
            }
            if (at.A == end || at.B == end)
                continue;
            var (one, other) = (steps[at.A], steps[at.B]);
            if (!probes.Any(c => one.Takes(c) && other.Takes(c)))
                continue;
            var differs = at.Part;
            if (
                differs < 0
                && (!ReferenceEquals(one.Part, other.Part) || one.Place != other.Place)
                && (one.Part.Field ?? other.Part.Field) is not null
            )
                differs = parts.FindIndex(p => ReferenceEquals(p, one.Part.Field is not null ? one.Part : other.Part));
            foreach (var a in one.Next)
            foreach (var b in other.Next)
                Push(a, b, differs);
        }
        return null;

        void Push(int a, int b, int part)
        {
            if (seen.Add((a, b, part < 0 ? 0 : 1)))
                queue.Enqueue((a, b, part));
        }
    }

    private static (List<Step> Steps, List<int> Starts) Build(List<PatternPart> parts)
    {
        var steps = new List<Step>();
        // The ends of what came so far, to be joined to what comes next; null: the very begin.
        List<Step?> open = [null];
        var starts = new List<int>();
        foreach (var part in parts)
        {
            switch (part)
            {
                case { IsStar: true }:
                    var any = Add(c => c != '/', "", part, -1);
                    Join(open, any);
                    any.Next.Add(any.Index);
                    open = [.. open, any];
                    break;
                case { Field: "job" or "machine" }:
                    var name = Add(c => char.IsAsciiLetterLower(c) || char.IsAsciiDigit(c) || c == '-', NameLetters, part, -1);
                    Join(open, name);
                    name.Next.Add(name.Index);
                    open = [name];
                    break;
                case { Field: "kind" }:
                    open = [.. part.Words!.Select(w => Chain(open, w.Select(c => (Func<char, bool>)(x => x == c)).ToList(), w, part))];
                    break;
                case { Field: { } field }:
                    open = [Chain(open, [.. Enumerable.Repeat((Func<char, bool>)char.IsAsciiDigit, field == "yyyy" ? 4 : 2)], "09", part)];
                    break;
                default:
                    open = [Chain(open, [c => c == part.Literal], part.Literal.ToString(), part)];
                    break;
            }
        }
        foreach (var step in open)
            if (step is not null)
                step.Next.Add(steps.Count);
        return (steps, starts);

        Step Add(Func<char, bool> takes, string probe, PatternPart part, int place)
        {
            var step = new Step(steps.Count, takes, probe, part, place);
            steps.Add(step);
            return step;
        }

        void Join(List<Step?> from, Step to)
        {
            foreach (var step in from)
                (step?.Next ?? starts).Add(to.Index);
        }

        Step? Chain(List<Step?> from, List<Func<char, bool>> takes, string probe, PatternPart part)
        {
            Step? last = null;
            for (var i = 0; i < takes.Count; i++)
            {
                var step = Add(takes[i], probe, part, i);
                if (last is null)
                    Join(from, step);
                else
                    last.Next.Add(step.Index);
                last = step;
            }
            return last;
        }
    }
}
