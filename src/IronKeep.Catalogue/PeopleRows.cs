using NodaTime;

namespace IronKeep.Catalogue;

public sealed class Person
{
    public int Id { get; set; }
    public required string Name { get; set; }
    public required string PasswordHash { get; set; }
    public Instant MadeAt { get; set; }
}

/// <summary>A sign-in of a browser; it holds until it is ended, by whoever, or its time is over.</summary>
public sealed class Session
{
    public required string Id { get; set; }
    public int PersonId { get; set; }
    public Person Person { get; set; } = null!;
    public required string Address { get; set; }
    public required string Program { get; set; }
    public Instant MadeAt { get; set; }
    public Instant SeenAt { get; set; }
}

/// <summary>A personal token: only the SHA-256 of its secret is kept.</summary>
public sealed class PersonalToken
{
    public long Id { get; set; }
    public int PersonId { get; set; }
    public Person Person { get; set; } = null!;
    public required string Label { get; set; }
    public required byte[] Hash { get; set; }
    public Instant MadeAt { get; set; }
    public Instant? LastUsedAt { get; set; }
}

/// <summary>An address from which a calendar program reads the timetable; whoever has it can read that and nothing else.</summary>
public sealed class CalendarAddress
{
    public long Id { get; set; }
    public required string Label { get; set; }
    public required byte[] Hash { get; set; }
    public required string MadeBy { get; set; }
    public Instant MadeAt { get; set; }
    public Instant? LastReadAt { get; set; }
}
