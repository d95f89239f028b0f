using System.Collections.Immutable;
using IronKeep.Catalogue;
using IronKeep.Core.Ceilings;
using IronKeep.Core.Charters;
using IronKeep.Core.Schedules;
using IronKeep.Core.Watching;
using IronKeep.Runs;
using IronKeep.Service.Alerts;

namespace IronKeep.Service.Runs;

/// <summary>What becomes of a run whose worker is gone.</summary>
public enum WhenLost
{
    /// <summary>It ends as interrupted; a planned one is tried again as its job says.</summary>
    Interrupted,

    /// <summary>It ends as interrupted, and another run carries on where it was broken off.</summary>
    CarriedOn,

    /// <summary>It ends as interrupted, and another run begins anew, a few times.</summary>
    BegunAnew,
}

/// <summary>
/// One kind of run: its work, and all that others need to know of the kind. A new kind is one class that implements this and is registered;
/// nothing else asks which kind a run is.
/// </summary>
public interface IRunWork
{
    RunKind Kind { get; }

    /// <summary>Does the work. Expected failures are thrown as <see cref="RunFailedException"/> or as errors of the store.</summary>
    Task<RunEnding> DoAsync(LiveRun live, CancellationToken cancel);

    WhenLost WhenLost => WhenLost.Interrupted;

    /// <summary>Whether nothing else works in its store meanwhile.</summary>
    bool IsAlone => false;

    /// <summary>Whether it changes what is known of copies.</summary>
    bool TouchesCopies => true;

    /// <summary>Whether a planned one is tried again after a cause that passes.</summary>
    bool IsRetried => false;

    /// <summary>Whether its machine does it, so that it waits for an agent that is away.</summary>
    bool IsOnMachine => false;

    /// <summary>What it holds while it is at work: by default its store, and nothing that another run of the kind would want.</summary>
    RunClaim ClaimOf(Run run, Charter charter) =>
        new(
            $"{run.Kind} {run.Id}",
            run.Machine,
            run.Store is null ? [] : [run.Store],
            [],
            MachineDefinition.UsualImportance,
            run.Due ?? run.NotBefore ?? run.Queued
        );

    /// <summary>Which alerts its end closes, and what it raises.</summary>
    IEnumerable<AlertStep> AlertsOf(Run run, Charter charter) =>
        RunAlerts.Usual(run, Subject.OfStore(run.Store!), charter, AlertClass.Failed);
}

/// <summary>A step that follows for the alerts from the end of a run: classes of a subject to close, or a matter to raise.</summary>
public sealed record AlertStep(Subject Subject, AlertClass[] Closes, Matter? Raises = null);

/// <summary>The kinds of run that there are.</summary>
public sealed class RunWorks(IEnumerable<IRunWork> works)
{
    private readonly Dictionary<RunKind, IRunWork> byKind = works.ToDictionary(w => w.Kind);

    public IRunWork this[RunKind kind] => byKind[kind];

    public IRunWork Of(Run run) => byKind[run.Kind];
}

/// <summary>
/// How a run ended, in one sentence to a person; <see cref="FailedStore"/> is the store whose fault it was, when it was one's.
/// </summary>
public sealed record RunEnding(Outcome Outcome, string Sentence, FailureClass? Failure = null)
{
    public string Sentence { get; init; } = Core.Quantities.Sentence.Begin(Sentence);
    public ImmutableArray<string> CopyIds { get; init; } = [];
    public string? FailedStore { get; init; }

    /// <summary>What an alert says, where the whole sentence would be too much.</summary>
    public string? Brief { get; init; }
    public Churn Churn { get; init; }

    /// <summary>Why it changed more at once than its job does; null: it did not.</summary>
    public string? Surge { get; init; }
}
