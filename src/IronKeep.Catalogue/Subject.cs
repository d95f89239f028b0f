using System.Linq.Expressions;
using IronKeep.Core.Watching;

namespace IronKeep.Catalogue;

/// <summary>
/// What an alert is about: the parts that its kind has, the others null. Name is that of a channel, an account or a part of the service.
/// </summary>
public sealed record Subject(SubjectKind Kind)
{
    public string? Job { get; init; }
    public string? Machine { get; init; }
    public string? Store { get; init; }
    public string? Name { get; init; }

    public static Subject OfJob(string job, string machine) => new(SubjectKind.Job) { Job = job, Machine = machine };

    public static Subject OfPrune(string job, string machine, string store) =>
        new(SubjectKind.Prune)
        {
            Job = job,
            Machine = machine,
            Store = store,
        };

    public static Subject OfStore(string store) => new(SubjectKind.Store) { Store = store };

    public static Subject OfReclaim(string store) => new(SubjectKind.Reclaim) { Store = store };

    public static Subject OfChannel(string channel) => new(SubjectKind.Channel) { Name = channel };

    public static Subject OfMachine(string machine) => new(SubjectKind.Machine) { Machine = machine };

    public static Subject OfClock(string machine) => new(SubjectKind.Clock) { Machine = machine };

    public static Subject OfAccount(string account) => new(SubjectKind.Account) { Name = account };

    public static Subject OfService(string part) => new(SubjectKind.Service) { Name = part };

    /// <summary>The subject in words, as titles say it.</summary>
    public string Words =>
        Kind switch
        {
            SubjectKind.Job => $"job {Job} on {Machine}",
            SubjectKind.Prune => $"prune of {Job} on {Machine} in store {Store}",
            SubjectKind.Store => $"store {Store}",
            SubjectKind.Reclaim => $"reclaiming of store {Store}",
            SubjectKind.Channel => $"channel {Name}",
            SubjectKind.Machine => $"machine {Machine}",
            SubjectKind.Clock => $"the clock of {Machine}",
            SubjectKind.Account => $"sign-ins to {Name}",
            _ => $"{Name}",
        };

    /// <summary>Whether an alert is about it, for the catalogue to find.</summary>
    public Expression<Func<Alert, bool>> Has
    {
        get
        {
            var (kind, job, machine, store, name) = (Kind, Job, Machine, Store, Name);
            return a =>
                a.SubjectKind == kind
                && a.SubjectJob == job
                && a.SubjectMachine == machine
                && a.SubjectStore == store
                && a.SubjectName == name;
        }
    }
}

/// <summary>Who or what caused something: a person by name, a run by its number, or the service itself by its part.</summary>
public sealed record Actor(ActorKind Kind)
{
    public string? Name { get; init; }
    public long? RunId { get; init; }

    public static Actor Schedule { get; } = new(ActorKind.Schedule);
    public static Actor CatchUp { get; } = new(ActorKind.CatchUp);

    public static Actor Person(string name) => new(ActorKind.Person) { Name = name };

    public static Actor OfRun(long run) => new(ActorKind.Run) { RunId = run };

    public static Actor Elsewhere { get; } = new(ActorKind.Elsewhere);

    /// <summary>A machine's agent, while the service was away.</summary>
    public static Actor Alone(string machine) => new(ActorKind.Elsewhere) { Name = machine };

    public static Actor Service(string part) => new(ActorKind.Service) { Name = part };

    /// <summary>The actor in words, as lists say it.</summary>
    public string Words =>
        Kind switch
        {
            ActorKind.Person => Name!,
            ActorKind.Schedule => "schedule",
            ActorKind.CatchUp => "catch-up",
            ActorKind.Run => $"run {RunId}",
            ActorKind.Elsewhere => Name is null ? "something else" : $"{Name} on its own",
            _ => $"service ({Name})",
        };
}
