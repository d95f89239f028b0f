using IronKeep.Core.Charters;

namespace IronKeep.Contracts;

/// <summary>
/// A channel: how it carries (smtp, pickup or webhook), to whom, how many messages wait, when the last one went through, and what went
/// wrong.
/// </summary>
public sealed record ChannelAnswer(string Name, ChannelKind Kind, string To, int Waiting, DateTimeOffset? LastSent, string? Problem);

/// <summary>Whether the test message went through, and if not, why.</summary>
public sealed record ChannelTestAnswer(bool Sent, string? Problem);

public enum FindingState
{
    Well,
    Warned,
    Failed,
}

/// <summary>One finding of the service's look at itself. State is well, warned or failed.</summary>
public sealed record SelfFinding(string What, FindingState State, string Sentence);

/// <summary>What the service finds when it looks at itself.</summary>
public sealed record SelfCheckAnswer(string Version, DateTimeOffset StartedAt, bool Ready, IReadOnlyList<SelfFinding> Findings);
