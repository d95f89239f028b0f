using IronKeep.Core.Ceilings;
using NodaTime;

namespace IronKeep.Core.Tests.Machines;

/// <summary>How much of a line copies may take, by the hour.</summary>
public sealed class LineCeilingTests
{
    private static readonly DateTimeZone London = DateTimeZoneProviders.Tzdb["Europe/London"];

    [Theory]
    [InlineData("20 Mbit/s", 2_500_000)]
    [InlineData("1.5 MB/s", 1_500_000)]
    [InlineData("512 kbit/s", 64_000)]
    [InlineData("64 kB/s", 64_000)]
    [InlineData("1 MiB/s from 08:00 to 18:00 on weekdays", 1_048_576)]
    public void A_rate_is_read_in_bytes_a_second(string text, long expected)
    {
        var (ceiling, problem) = LineCeiling.Read(text);
        Assert.Null(problem);
        Assert.Equal((expected, text), (ceiling!.PerSecond, ceiling.Words));
    }

    [Theory]
    [InlineData("20", "is no rate")]
    [InlineData("20 MB", "is no rate")]
    [InlineData("fast", "is no rate")]
    [InlineData("-1 Mbit/s", "is no rate")]
    [InlineData("99999999999999999999999999 Mbit/s", "is no rate")]
    [InlineData("511 kbit/s", "64 kB/s are the least")]
    [InlineData("1 MB/s from 8 to 18", "8")]
    [InlineData("1 MB/s from 08:00 to 08:00", "never end")]
    [InlineData("", "is no rate")]
    public void What_is_none_says_why(string text, string says) => Assert.Contains(says, LineCeiling.Read(text).Problem!.Message);

    /// <summary>The least of what applies; from the first minute up to but not including the last, by the wall clock of the zone.</summary>
    [Theory]
    [InlineData("2026-11-27T07:59:59Z", 2_500_000L)]
    [InlineData("2026-11-27T08:00:00Z", 1_000_000L)]
    [InlineData("2026-11-27T17:59:59Z", 1_000_000L)]
    [InlineData("2026-11-27T18:00:00Z", 2_500_000L)]
    [InlineData("2026-11-28T12:00:00Z", 2_500_000L)]
    [InlineData("2026-06-26T07:30:00Z", 1_000_000L)]
    [InlineData("2026-06-26T17:30:00Z", 2_500_000L)]
    public void The_least_that_applies_holds(string at, long expected)
    {
        var all = new[] { "20 Mbit/s", "1 MB/s from 08:00 to 18:00 on weekdays", "3 MB/s from 09:00 to 10:00" }.Select(t =>
            LineCeiling.Read(t).Ceiling!
        );
        var instant = NodaTime.Text.InstantPattern.General.Parse(at).Value;
        Assert.Equal(expected, LineCeiling.At(all, instant, London));
        Assert.Null(LineCeiling.At([], instant, London));
        Assert.Null(LineCeiling.At(all.Skip(1).Where(_ => expected > 2_000_000).Take(1), instant, London));
    }
}
