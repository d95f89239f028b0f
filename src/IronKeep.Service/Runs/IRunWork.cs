using System.Collections.Immutable;
using IronKeep.Core.Watching;
using IronKeep.Runs;
using IronKeep.Service.Catalogue;

namespace IronKeep.Service.Runs;

/// <summary>The work of one kind of run.</summary>
public interface IRunWork
{
    RunKind Kind { get; }

    /// <summary>Does the work. Expected failures are thrown as <see cref="RunFailedException"/> or as errors of the store.</summary>
    Task<RunEnding> DoAsync(LiveRun live, CancellationToken cancel);
}

/// <summary>How a run ended, in one sentence to a person; <see cref="FailedStore"/> is the store whose fault it was, when it was one's.</summary>
public sealed record RunEnding(Outcome Outcome, string Sentence, FailureClass? Failure = null)
{
    public ImmutableArray<string> CopyIds { get; init; } = [];
    public string? FailedStore { get; init; }

    /// <summary>What an alert says, where the whole sentence would be too much.</summary>
    public string? Brief { get; init; }
}
