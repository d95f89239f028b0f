using IronKeep.Core.Machines;
using NodaTime;

namespace IronKeep.Catalogue;

/// <summary>
/// A one-time code with which a machine may join, by the SHA-256 of its secret. A newer one of the machine ends those before.
/// </summary>
public sealed class JoiningCode
{
    public long Id { get; set; }
    public required string Machine { get; set; }
    public required byte[] Hash { get; set; }
    public required string MadeBy { get; set; }
    public Instant MadeAt { get; set; }
    public Instant Until { get; set; }
    public Instant? UsedAt { get; set; }
}

/// <summary>
/// The agent of a machine, known by the SHA-256 of its public key. Its right renews itself with each contact (HeardAt, by the service's
/// clock) until a person shuts it out.
/// </summary>
public sealed class Agent
{
    public required string Machine { get; set; }
    public required byte[] KeyPrint { get; set; }
    public required string EnrolledBy { get; set; }
    public Instant JoinedAt { get; set; }
    public Instant HeardAt { get; set; }

    /// <summary>What it says of itself, and from where it spoke last.</summary>
    public required string Version { get; set; }
    public required string System { get; set; }
    public string Address { get; set; } = "";

    /// <summary>How far its clock was ahead of the service's at the last contact, in seconds.</summary>
    public double ClockAhead { get; set; }
    public Instant? ShutOutAt { get; set; }
    public string? ShutOutBy { get; set; }
    public string? ShutOutWhy { get; set; }

    /// <summary>The name under which a machine with this one's key wanted to join, and when, until a person has said what it is.</summary>
    public string? CameAs { get; set; }
    public Instant? CameAsAt { get; set; }
}

/// <summary>Into which class a machine falls, since when, and which it was in before (null: it was not known).</summary>
public sealed class CoverageSince
{
    public required string Machine { get; set; }
    public Coverage Class { get; set; }
    public Instant Since { get; set; }
    public Coverage? Before { get; set; }
}
