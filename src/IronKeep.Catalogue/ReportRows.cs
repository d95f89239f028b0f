using IronKeep.Core.Reports;
using NodaTime;

namespace IronKeep.Catalogue;

/// <summary>
/// A report that is kept, or is to be made. From and To are dates (yyyy-MM-dd) in the charter's zone, To the one after its last. Data is
/// the report as JSON, null while it is not made.
/// </summary>
public sealed class KeptReport
{
    public long Id { get; set; }
    public required string Name { get; set; }
    public ReportPeriod Every { get; set; }
    public required string From { get; set; }
    public required string To { get; set; }
    public Instant AskedAt { get; set; }
    public Instant? MadeAt { get; set; }
    public string? Data { get; set; }

    /// <summary>Why it could not be made, the last time that it was tried.</summary>
    public string? Problem { get; set; }

    /// <summary>Whether it is told when it is made: by its schedule, not because somebody asked.</summary>
    public bool Tells { get; set; }
}
