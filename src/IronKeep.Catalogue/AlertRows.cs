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

    /// <summary>How grave it is by what is at stake now.</summary>
    public Severity Severity { get; set; } = Severity.Failure;

    /// <summary>Until when a person knows of it and nobody is told, who said so, and why; null where nobody has.</summary>
    /// <summary>The routes by which it was told to others because nobody had seen it, one a line.</summary>
    public string Escalated { get; set; } = "";
    public Instant? KnownUntil { get; set; }
    public string? KnownBy { get; set; }
    public string? KnownReason { get; set; }
}

/// <summary>
/// What happened to an alert, in order: by whom (null: by itself), in words, and the run that was begun where there is one. Never changed.
/// </summary>
public sealed class AlertDeed
{
    public long Id { get; set; }
    public long AlertId { get; set; }
    public Instant At { get; set; }
    public AlertDeedKind Kind { get; set; }
    public string? By { get; set; }
    public string? Words { get; set; }
    public long? RunId { get; set; }
}

/// <summary>
/// An alert's ticket in an outside desk: the desk's own reference, the page it is linked by, and the message that opened it. ClosedAt: the
/// desk was told that it is over, or does not have it any more.
/// </summary>
public sealed class Ticket
{
    public long Id { get; set; }
    public long AlertId { get; set; }
    public required string Channel { get; set; }

    /// <summary>Null where the desk's answer held none: it cannot be spoken of to the desk again.</summary>
    public string? Reference { get; set; }
    public string? Page { get; set; }
    public long MessageId { get; set; }
    public Instant OpenedAt { get; set; }
    public Instant? ClosedAt { get; set; }
}

/// <summary>
/// Something to be told through a channel, kept until it is sent or given up. Data is the event of a webhook, as JSON. One that gathers
/// waits for its time and takes up what is told meanwhile; its words are found when it is carried.
/// </summary>
public sealed class Message
{
    public long Id { get; set; }
    public required string Channel { get; set; }

    /// <summary>The address that mail goes to; null: the channel's own.</summary>
    public string? Mail { get; set; }

    /// <summary>The alert that is told of; null: another thing, or several.</summary>
    public long? AlertId { get; set; }

    /// <summary>Why it gathers, in words ("route office"); null: it does not.</summary>
    public string? Gathers { get; set; }

    /// <summary>What was gathered, one a line: "alert 5", "run 7".</summary>
    public string Entries { get; set; } = "";
    public required string Subject { get; set; }
    public required string Body { get; set; }

    /// <summary>The same as HTML, for mail, where it has a layout of its own; null: it is made of the body.</summary>
    public string? Html { get; set; }
    public required string Type { get; set; }
    public required string Data { get; set; }
    public Instant MadeAt { get; set; }
    public Instant NextAt { get; set; }
    public int Attempts { get; set; }
    public Instant? EndedAt { get; set; }
    public bool Sent { get; set; }
    public string? Problem { get; set; }

    /// <summary>Whether the channel refused it for good, to all (then it was not sent) or to some of those it was for.</summary>
    public bool Refused { get; set; }

    /// <summary>Whether it says what another channel or address should have told. Refused as well, it is passed on no further.</summary>
    public bool PassedOn { get; set; }
}
