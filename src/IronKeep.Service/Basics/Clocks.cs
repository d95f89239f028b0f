using System.Globalization;
using NodaTime;

namespace IronKeep.Service.Basics;

/// <summary>Instants from the one clock, and the forms in which times go out.</summary>
public static class Clocks
{
    public static Instant Now(this TimeProvider clock) => Instant.FromDateTimeOffset(clock.GetUtcNow());

    /// <summary>Local date and time with offset, in the form of RFC 3339: "2027-03-28T03:00:00+02:00".</summary>
    public static string Local(this Instant instant, DateTimeZone zone) =>
        instant.InZone(zone).ToString("uuuu-MM-dd HH:mmo<Z+HH:mm>", CultureInfo.InvariantCulture);

    /// <summary>As a program reads it: RFC 3339, to the second.</summary>
    public static string Rfc3339(this Instant instant, DateTimeZone zone) =>
        instant.InZone(zone).ToString("uuuu-MM-dd'T'HH:mm:sso<m>", CultureInfo.InvariantCulture);
}
