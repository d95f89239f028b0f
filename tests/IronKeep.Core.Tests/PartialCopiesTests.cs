using IronKeep.Core.Chains;
using IronKeep.Core.Charters;
using IronKeep.Core.Dated;
using IronKeep.Core.Quantities;
using IronKeep.Core.Schedules;
using IronKeep.Yaml;
using NodaTime;

namespace IronKeep.Core.Tests;

public sealed class PartialCopiesTests
{
    private static readonly DateTimeZone Zone = DateTimeZoneProviders.Tzdb["Europe/London"];

    private static Instant At(int day, int month = 11, int hour = 2) =>
        new LocalDateTime(2026, month, day, hour, 0).InZoneLeniently(Zone).ToInstant();

    private static PartialCopies Rules(
        string? full = null,
        int? longest = null,
        string? oldest = null,
        CopyKind kind = CopyKind.Incremental
    ) =>
        new(
            kind,
            full is null ? null : ScheduleSentence.ReadDays(full).Item1,
            longest,
            oldest is null ? null
                : Span.TryParse(oldest, out var span, out _) ? span
                : throw new ArgumentException(oldest)
        );

    private static ChainCopy Full(string id, Instant taken, bool sound = true) => new(id, CopyKind.Full, null, taken, sound);

    private static ChainCopy On(string below, string id, Instant taken, bool sound = true) =>
        new(id, CopyKind.Incremental, below, taken, sound);

    private static (CopyKind, string?) Next(PartialCopies? rules, Instant now, params ChainCopy[] copies)
    {
        var next = PartialCopies.Next(rules, copies, now, Zone);
        return (next.Kind, next.Base);
    }

    [Fact]
    public void The_first_is_full_and_so_is_the_one_after_what_is_not_sound()
    {
        var rules = Rules(longest: 10);
        Assert.Equal((CopyKind.Full, null), Next(rules, At(2)));
        Assert.Equal((CopyKind.Incremental, "a"), Next(rules, At(2), Full("a", At(1))));
        Assert.Equal((CopyKind.Full, null), Next(rules, At(2), Full("a", At(1), sound: false)));
        // On what is not sound nothing is put; the newest that is sound with its chain carries the next.
        Assert.Equal(
            (CopyKind.Incremental, "b"),
            Next(rules, At(5), Full("a", At(1)), On("a", "b", At(2)), On("b", "c", At(3), sound: false))
        );
        Assert.Equal((CopyKind.Incremental, "a"), Next(rules, At(5), Full("a", At(1)), On("gone", "d", At(4))));
        // One of tomorrow, by a clock that was wrong, is not there yet.
        Assert.Equal((CopyKind.Full, null), Next(rules, At(2), Full("a", At(3))));
        Assert.Equal((CopyKind.Full, null), Next(null, At(2), Full("a", At(1))));
    }

    [Theory]
    [InlineData(31, 10, null)] // The day before the first Sunday of November.
    [InlineData(1, 11, "today is ")]
    [InlineData(2, 11, "2026-11-01 was ")]
    [InlineData(6, 12, "today is ")]
    public void A_day_of_full_copies_that_was_missed_is_made_up_for(int day, int month, string? why)
    {
        var rules = Rules("first sun of month");
        var next = PartialCopies.Next(rules, [Full("a", At(4, 10)), On("a", "b", At(30, 10))], At(day, month), Zone);
        Assert.Equal(why is null ? CopyKind.Incremental : CopyKind.Full, next.Kind);
        Assert.StartsWith(why ?? "number 3", next.Why, StringComparison.Ordinal);
        // Once made, it is not due a second time on the same day.
        Assert.Equal((CopyKind.Incremental, "b"), Next(rules, At(1, hour: 20), Full("b", At(1))));
    }

    [Fact]
    public void A_chain_is_as_long_and_as_old_as_it_may_be_and_no_more()
    {
        var chain = Enumerable.Range(1, 4).Select(i => i == 1 ? Full("1", At(1)) : On($"{i - 1}", $"{i}", At(i))).ToArray();
        Assert.Equal((CopyKind.Incremental, "4"), Next(Rules(longest: 5), At(5), chain));
        Assert.Equal((CopyKind.Full, null), Next(Rules(longest: 4), At(5), chain));
        Assert.Equal((CopyKind.Incremental, "4"), Next(Rules(oldest: "5 days"), At(6, hour: 1), chain));
        Assert.Equal((CopyKind.Full, null), Next(Rules(oldest: "5 days"), At(6), chain));
        Assert.Equal((CopyKind.Differential, "1"), Next(Rules(longest: 5, kind: CopyKind.Differential), At(5), chain));
        Assert.Equal("mira asked for it", PartialCopies.Next(Rules(longest: 5), chain, At(5), Zone, askedBy: "mira").Why);
    }

    private static CharterReading Read(string store, string job) =>
        CharterYaml.Read(
            $$"""
            charter: 1
            zone: Europe/London
            machines: { heron: {}, plover: {} }
            stores: { s: { folder: /srv/s, {{store}} } }
            policies: { p: { keep: newest 3 } }
            jobs: { j: { takes: [/srv/d], into: [s], policy: p, {{job}} } }
            """,
            "heron"
        );

    [Fact]
    public void What_a_charter_says_of_plain_archives_is_read_and_written()
    {
        var charter = Read(
            "layout: plain, piece-size: 4 GB, compressed: no",
            "partials: incremental, full: first sun of month, longest-chain: 14, oldest-full: 40 days"
        ).Charter!;
        Assert.Equal(new PlainArchives(false, new ByteSize(4_000_000_000)), charter.Stores["s"].Plain);
        Assert.Equal("incremental; full 1st sun of month or after 14 in a chain or after 40 days", charter.Jobs["j"].Partials!.Words);
        var again = CharterYaml.Read(CharterWriter.Write(charter), "heron").Charter!;
        Assert.Equal((charter.Jobs["j"].Partials, charter.Stores["s"].Plain), (again.Jobs["j"].Partials, again.Stores["s"].Plain));
    }

    [Theory]
    [InlineData("piece-size: 4 GB", "note: n", "goes with 'layout: plain'")]
    [InlineData("layout: plain, piece-size: 4 kB", "note: n", "too many to look through")]
    [InlineData("layout: plain, key-file: /k", "note: n", "does not go with plain archives")]
    [InlineData("layout: plain, via: agent, on: plover", "note: n", "the service writes them where it reaches them")]
    [InlineData("layout: plain", "partials: incremental", "no chain should go on for ever")]
    [InlineData("layout: plain", "full: sun", "without 'partials' every copy is full")]
    [InlineData("layout: plain", "partials: hourly, full: sun", "is no kind of partial copy")]
    [InlineData("layout: plain", "partials: incremental, full: sunny", "sunny")]
    [InlineData("layout: plain", "partials: incremental, longest-chain: 1", "a number of copies")]
    [InlineData("layout: pooled", "partials: incremental, full: sun", "none of its stores keeps plain archives")]
    [InlineData("layout: plain", "on: plover", "written of the service's own machine")]
    public void What_does_not_go_together_is_told(string store, string job, string message) =>
        Assert.Contains(Read(store, job).Mistakes, m => m.Message.Contains(message, StringComparison.Ordinal));
}
