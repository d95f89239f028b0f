using System.Collections.Immutable;
using System.Text.Json.Serialization;
using IronKeep.Core.Charters;

namespace IronKeep.Runs.Steps;

/// <summary>
/// A command of a run, as its words one by one, with the user that it runs as (null: ours) and after how long it is ended.
/// </summary>
public sealed record RunStep(string Name, ImmutableArray<string> Command, string? As, TimeSpan Limit)
{
    public static RunStep Of(StepDefinition s) => new(s.Name, s.Command, s.As, s.Limit.ToDuration().ToTimeSpan());
}

/// <summary>A command whose output is a file of a copy, below <see cref="Folder"/>, in a folder of the step's name.</summary>
public sealed record StreamSource(RunStep Step, string KeepsAs)
{
    /// <summary>The folder of a copy in which streams lie; no file of the machine is meant by it.</summary>
    public const string Folder = ".streams";

    /// <summary>Its path in a copy.</summary>
    public string Path => $"/{Folder}/{Step.Name}/{KeepsAs}";
}

/// <summary>What a run does around its copies. Source: docs/semantics.md, section 2 (Planned runs, lateness, catch-up).</summary>
public sealed record RunSteps(
    ImmutableArray<RunStep> Before,
    RunStep? Until,
    TimeSpan Patience,
    ImmutableArray<RunStep> AfterSuccess,
    ImmutableArray<RunStep> AfterFailure,
    ImmutableArray<RunStep> AlwaysAfter
)
{
    public static RunSteps Of(JobSteps s) =>
        new(
            [.. s.Before.Select(RunStep.Of)],
            s.Until is { } until ? RunStep.Of(until) : null,
            s.Patience.ToDuration().ToTimeSpan(),
            [.. s.AfterSuccess.Select(RunStep.Of)],
            [.. s.AfterFailure.Select(RunStep.Of)],
            [.. s.AlwaysAfter.Select(RunStep.Of)]
        );
}

/// <summary>What a run owes once its first step is about to begin: what is to be run after it, whatever becomes of it.</summary>
public sealed record OwedRun(long Run, string Job, DateTimeOffset Since, RunSteps Steps);

/// <summary>How what is owed is written; made when it is built.</summary>
[JsonSerializable(typeof(OwedRun))]
[JsonSerializable(typeof(Dictionary<string, List<DateTimeOffset>>))]
internal sealed partial class StepContext : JsonSerializerContext;
