using IronKeep.Core.Watching;
using NodaTime;

namespace IronKeep.Catalogue;

/// <summary>One open matter about one subject.</summary>
public sealed class Alert
{
    public long Id { get; set; }
    public SubjectKind SubjectKind { get; set; }
    public string? SubjectJob { get; set; }
    public string? SubjectMachine { get; set; }
    public string? SubjectStore { get; set; }
    public string? SubjectName { get; set; }
    public Subject Subject
    {
        get =>
            new(SubjectKind)
            {
                Job = SubjectJob,
                Machine = SubjectMachine,
                Store = SubjectStore,
                Name = SubjectName,
            };
        init =>
            (SubjectKind, SubjectJob, SubjectMachine, SubjectStore, SubjectName) = (
                value.Kind,
                value.Job,
                value.Machine,
                value.Store,
                value.Name
            );
    }
    public AlertClass Class { get; set; }
    public AlertState State { get; set; }
    public required string Message { get; set; }
    public required string Remedy { get; set; }
    public int Count { get; set; }
    public Instant OpenedAt { get; set; }
    public Instant LastAt { get; set; }
    public string? AcknowledgedBy { get; set; }
    public Instant? AcknowledgedAt { get; set; }
    public Instant? ClosedAt { get; set; }
    public long? RunId { get; set; }

    /// <summary>When it was last told; it is told again while nobody has seen it.</summary>
    public Instant? ToldAt { get; set; }

    /// <summary>The jobs that one cause affects, one a line; empty where the subject says it all.</summary>
    public string Affected { get; set; } = "";

    /// <summary>The person who closed it, and why; null where it closed by itself.</summary>
    public string? ClosedBy { get; set; }
    public string? ClosedReason { get; set; }
}

/// <summary>Something to be told through a channel, kept until it is sent or given up. Data is the event of a webhook, as JSON.</summary>
public sealed class Message
{
    public long Id { get; set; }
    public required string Channel { get; set; }
    public required string Subject { get; set; }
    public required string Body { get; set; }
    public required string Type { get; set; }
    public required string Data { get; set; }
    public Instant MadeAt { get; set; }
    public Instant NextAt { get; set; }
    public int Attempts { get; set; }
    public Instant? EndedAt { get; set; }
    public bool Sent { get; set; }
    public string? Problem { get; set; }
}
