using IronKeep.Core.Quantities;
using IronKeep.Core.Schedules;

namespace IronKeep.Core.Machines;

/// <summary>
/// What a job needs of its machine before it begins by itself: <c>mains power</c>, <c>idle for 10 minutes</c>, <c>unmetered line</c>,
/// <c>network marsh-lan</c>, <c>5 GB free at /srv</c>. What a machine cannot tell is not given. Source: docs/semantics.md, section 2
/// (Planned runs, lateness, catch-up).
/// </summary>
public abstract record MachineNeed
{
    private const string Mains = "mains power",
        Line = "unmetered line",
        IdleFor = "idle for ",
        Network = "network ",
        FreeAt = " free at ",
        Known = "write 'mains power', 'idle for 10 minutes', 'unmetered line', 'network NAME' or '5 GB free at /FOLDER'";

    private MachineNeed(string words) => Words = words;

    /// <summary>As it was written.</summary>
    public string Words { get; }

    /// <summary>The need, or the problem; exactly one of the two is null.</summary>
    public static (MachineNeed? Need, SentenceProblem? Problem) Read(string sentence)
    {
        var words = sentence.Trim();
        if (words == Mains)
            return (new OfMains(words), null);
        if (words == Line)
            return (new OfLine(words), null);
        if (words.StartsWith(IdleFor, StringComparison.Ordinal))
            return Span.TryParse(words[IdleFor.Length..], out var span, out var wrong) && span.ToDuration().TotalSeconds > 0
                ? (new OfIdleness(words, span), null)
                : (null, new SentenceProblem(IdleFor.Length, wrong is { Length: > 0 } ? wrong : "write 'idle for 10 minutes'"));
        if (words.StartsWith(Network, StringComparison.Ordinal) && words[Network.Length..].Trim() is { Length: > 0 } name)
            return (new OfNetwork(words, name), null);
        if (words.IndexOf(FreeAt, StringComparison.Ordinal) is > 0 and var cut)
            return !ByteSize.TryParse(words[..cut], out var size, out var problem) ? (null, new SentenceProblem(0, problem))
                : words[(cut + FreeAt.Length)..].Trim() is ['/', ..] path ? (new OfRoom(words, size, path), null)
                : (null, new SentenceProblem(cut + FreeAt.Length, "the folder must begin with '/'"));
        return (null, new SentenceProblem(0, $"'{words}' is nothing that a machine can tell; {Known}"));
    }

    /// <summary>A need that is not known here, which no machine gives.</summary>
    public static MachineNeed Unknown(string words) => new OfNothing(words);

    /// <summary>What of a machine is not as it is needed, as the end of a sentence about it; null: it is.</summary>
    public abstract string? LackedBy(MachineState state);

    public sealed override string ToString() => Words;

    private static string? Untold(string what) => $"cannot tell {what}";

    private sealed record OfNothing(string Said) : MachineNeed(Said)
    {
        public override string? LackedBy(MachineState state) => Untold($"whether it gives '{Said}'");
    }

    private sealed record OfMains(string Said) : MachineNeed(Said)
    {
        public override string? LackedBy(MachineState state) =>
            state.OnMains switch
            {
                true => null,
                false => "runs on battery",
                null => Untold("whether it runs on battery"),
            };
    }

    private sealed record OfLine(string Said) : MachineNeed(Said)
    {
        public override string? LackedBy(MachineState state) =>
            state.Metered switch
            {
                false => null,
                true => "is on a metered line",
                null => Untold("whether its line is metered"),
            };
    }

    private sealed record OfIdleness(string Said, Span For) : MachineNeed(Said)
    {
        public override string? LackedBy(MachineState state) =>
            state.IdleSeconds is not { } idle ? Untold("whether somebody uses it")
            : idle >= For.ToDuration().TotalSeconds ? null
            : $"was used within {For}";
    }

    private sealed record OfNetwork(string Said, string Name) : MachineNeed(Said)
    {
        public override string? LackedBy(MachineState state) =>
            state.Networks is null ? Untold("on which network it is")
            : state.Networks.Contains(Name) ? null
            : $"is not on network {Name}";
    }

    private sealed record OfRoom(string Said, ByteSize Size, string Path) : MachineNeed(Said)
    {
        public override string? LackedBy(MachineState state) =>
            state.RoomFor(Path) is not { } free ? Untold($"how much is free at {Path}")
            : free >= Size.Bytes ? null
            : $"has less than {Size} free at {Path}";
    }
}
