using CsCheck;
using IronKeep.Core.Charters;
using IronKeep.Core.Quantities;
using IronKeep.Core.Schedules;
using IronKeep.Core.Watching;
using NodaTime;

namespace IronKeep.Core.Tests;

public sealed class CharterFieldTests
{
    private static readonly Gen<string> Sentences = Pick.Of(
        "daily at 23:00",
        "weekdays at 05:10, 22:00",
        "every 6 hours",
        "every 20 minutes between 22:00 and 04:00 on fri-mon",
        "last fri of jan,jul at 20:00",
        "every 2 weeks on mon at 03:00 from 2026-01-05",
        "*/20 8-17 * * mon-fri",
        "DTSTART:20260101T030000 RRULE:FREQ=MONTHLY;BYMONTHDAY=-1",
        "first working day of month at 06:00 until 2030-12-31 except 2027-01-01"
    );
    private static readonly Gen<Span> Spans = Gen.Select(Gen.Int[1, 400], Pick.Of(Enum.GetValues<SpanUnit>()))
        .Select((n, u) => new Span(n, u));
    private static readonly Gen<string> Words = Gen.String[Gen.Char["abcdefghijklmnopqrstuvwxyz0123456789 .,:'\"#&*%!?{}[]\\täß"], 1, 12];

    private static readonly Gen<JobDefinition> Jobs =
        from takes in Words.Array[1, 3]
        from leaves in Words.Array[0, 3]
        from places in Pick.Of("a", "b", "a b")
        from numbers in Gen.Int[0, 200].Array[4]
        from spans in Spans.Array[5]
        from words in Sentences
        from zone in Pick.Of(null, "Europe/Berlin", "Asia/Kolkata")
        from flags in Gen.Bool.Array[8]
        select new JobDefinition(
            "job",
            [.. takes.Select(t => "/" + t.Trim().Replace("..", "x", StringComparison.Ordinal).Replace("{", "{{").Replace("}", "}}"))],
            [.. places.Split(' ')],
            "p"
        )
        {
            LeavesOut = [.. leaves],
            When = flags[0] ? null : ScheduleText.Read(words).Schedule,
            After = flags[0] && flags[1] ? "other" : null,
            Zone = zone is null ? null : DateTimeZoneProviders.Tzdb[zone],
            FreshWithin = flags[2] ? spans[0] : null,
            StartLimit = spans[1],
            RunLimit = flags[3] ? spans[2] : null,
            CatchUp = flags[4] ? CatchUp.None : CatchUp.Once,
            WaitAfterReturn = spans[3],
            CatchUpGap = spans[4],
            Overlap = flags[5] ? Overlap.Wait : Overlap.Skip,
            Retries = numbers[0] % 11,
            Band = new Band(numbers[1] + 1, new ByteSize(numbers[2] * 1_000_000L)),
            Prune = flags[6] ? PruneTime.AfterSuccess : PruneTime.ByHand,
            Tells = flags[7] ? ["crew"] : [],
            TellWhen = flags[4] ? TellWhen.Always : TellWhen.Trouble,
            Selection = IronKeep.Core.Machines.MachineSelection.Of(flags[1] ? "heron" : null),
            Note = flags[2] ? words : null,
            Calendar = !flags[0] && flags[3] ? "holidays" : null,
            WhenClosed = !flags[0] && flags[3] && flags[5] ? WindowRule.Drop : null,
            QuietHours =
                !flags[0] && flags[6]
                    ? [QuietHours.Read("08:00 to 18:00 on weekdays").Hours!, QuietHours.Read("23:30 to 00:30").Hours!]
                    : [],
            WhenQuiet = !flags[0] && flags[6] && flags[7] ? WindowRule.Drop : WindowRule.Shift,
            Spread = !flags[0] && flags[5] ? new Span(90, SpanUnit.Minutes) : null,
            Importance = flags[6] ? 1 + numbers[3] % 5 : null,
            Locks = flags[7] ? ["dock", "ferry"] : [],
            ExpectSize = flags[2] ? new ByteSize(numbers[2] * 1_000L) : null,
            ExpectChange = flags[3] ? new ByteSize(numbers[1]) : null,
            ExpectGrowth = flags[4] ? new ByteSize(numbers[0]) : null,
            ExpectTime = flags[5] ? spans[0] : null,
        };

    /// <summary>Fields make nodes, the reader makes a declaration of them: an equal one, whatever the values.</summary>
    [Fact]
    public void What_the_fields_say_is_what_the_reader_reads() =>
        Jobs.Where(j =>
                j.Takes.All(t => t.Length > 1 && t == Clean(t))
                && j.Takes.Distinct().Count() == j.Takes.Length
                && j.LeavesOut.All(l => l.Trim().Length > 0)
            )
            .Sample(job =>
            {
                var reading = CharterReader.Read(Nodes(job), "heron");
                // Some random patterns are no patterns; that is another test's matter.
                if (
                    reading.Mistakes.Any(m =>
                        m.Message.Contains("pattern", StringComparison.Ordinal) || m.Message.Contains("']'", StringComparison.Ordinal)
                    )
                )
                    return true;
                return reading.Charter is { } charter
                    && charter.Jobs["job"].Equals(job)
                    && CharterFields.Of(charter.Jobs["job"]).SequenceEqual(CharterFields.Of(job));
            });

    [Fact]
    public void Defaults_are_left_out_and_everything_else_is_not()
    {
        var plain = new JobDefinition("job", ["/a"], ["s"], "p");
        Assert.Equal(["takes", "into", "policy"], CharterFields.Of(plain).Select(f => f.Key));
        var other = plain with
        {
            Retries = 1,
            Overlap = Overlap.Wait,
            Band = new Band(10, new ByteSize(5)),
            StartLimit = new Span(5, SpanUnit.Minutes),
        };
        Assert.Equal(["takes", "into", "policy", "start-limit", "overlap", "retries", "band"], CharterFields.Of(other).Select(f => f.Key));
        Assert.NotEqual(plain, other);
        Assert.Equal(plain, plain with { LeavesOut = [] });
        var store = new StoreDefinition("s", "/s", new ByteSize(1000), null, StoreDefinition.UsualBin);
        Assert.Equal(100, store.NearlyFullBelow(7, 9));
        Assert.Equal(40, (store with { WarnBelow = new ByteSize(40) }).NearlyFullBelow(7, 9));
        Assert.Equal(8, (store with { Capacity = null }).NearlyFullBelow(50, 30));
    }

    [Fact]
    public void A_job_is_due_with_the_first_of_those_it_follows()
    {
        var when = ScheduleSentence.Read("daily at 23:00").Schedule;
        var first = new JobDefinition("first", ["/a"], ["s"], "p") { When = when };
        var second = new JobDefinition("second", ["/a"], ["s"], "p") { After = "first", Tells = ["own"] };
        var third = new JobDefinition("third", ["/a"], ["s"], "p") { After = "second" };
        var charter = Charter.Empty with
        {
            Tells = ["all"],
            Jobs = Charter.Empty.Jobs.Add("first", first).Add("second", second).Add("third", third),
        };
        Assert.Equal("first", charter.HeadOf(charter.Placed.Find("third", "")!).Name);
        Assert.Equal("first", charter.HeadOf(charter.Placed.Find("first", "")!).Name);
    }

    [Theory]
    [InlineData("watched: yes, takes: /a, into: s, policy: p, when: daily at 23:00", "'takes' does not go with a watched job")]
    [InlineData("watched: yes", "a watched job needs its schedule")]
    [InlineData("watched: maybe", "use yes or no")]
    [InlineData("on: hern", "there is no machine 'hern'; did you mean 'heron'?")]
    [InlineData("calendar: holiday", "did you mean 'holidays'")]
    [InlineData("when-closed: drop", "needs a calendar")]
    [InlineData("when-quiet: drop", "needs quiet hours")]
    [InlineData("quiet-hours: 08:00", "expected 'to'")]
    [InlineData("spread: 2 days", "longer than a day")]
    [InlineData("importance: 6", "write one from 1 to 5")]
    [InlineData("locks: Ferry Dock", "cannot be the name of a lock")]
    [InlineData("zone: Asia/Kolkata, when: DTSTART;TZID=Europe/Berlin:20260101T030000 RRULE:FREQ=DAILY", "the job's zone is Asia/Kolkata")]
    [InlineData("when: 0 25 * * *", "not a value of the hour field")]
    [InlineData("after: other, spread: 1 hours", "does not go with 'after'")]
    [InlineData("expect-size: 100", "unit")]
    public void A_bad_field_of_a_job_is_refused_with_the_way_out(string fields, string message)
    {
        var job = fields.Split(", ").Select(f => (f.Split(": ", 2)[0], (CharterNode)Text(f.Split(": ", 2)[1]))).ToList();
        if (!fields.Contains("watched: yes", StringComparison.Ordinal))
            job.AddRange([("takes", Text("/a")), ("into", Text("s")), ("policy", Text("p"))]);
        var reading = CharterReader.Read(
            Map(
                ("charter", Text("1")),
                ("machines", Map(("heron", Map()))),
                ("calendars", Map(("holidays", Map(("closed", Text("dec 25")))))),
                ("stores", Map(("s", Map(("folder", Text("/s")))))),
                ("policies", Map(("p", Map(("keep", Text("newest 2")))))),
                (
                    "jobs",
                    Map(
                        ("other", Map(("takes", Text("/o")), ("into", Text("s")), ("policy", Text("p")), ("when", Text("daily at 01:00")))),
                        ("job", Map([.. job]))
                    )
                )
            )
        );
        Assert.Null(reading.Charter);
        Assert.Contains(reading.Mistakes, m => m.Message.Contains(message, StringComparison.Ordinal));
    }

    [Theory]
    [InlineData("rotation-sets: set: start: 20:00, first: 2026-12-01, groups: nobody", "there is no media-group 'nobody'")]
    [InlineData("rotation-sets: set: start: 8pm, first: 2026-12-01, groups: disks", "is not a time")]
    [InlineData("rotation-sets: set: start: 20:00, groups: disks", "'first' is missing")]
    [InlineData("media-groups: other: serves: daily, media: D-1, protected-for: always", "medium 'D-1' is in groups disks and other")]
    [InlineData("media-groups: other: serves: dayly, media: D-2, protected-for: always", "did you mean 'daily'")]
    [InlineData("media-groups: other: serves: daily, media: D-2", "'protected-for' is missing")]
    [InlineData("calendars: other: closed: feb 30", "there is no 'feb 30'")]
    [InlineData("machines: other: runs-at-once: 0", "write one from 1 to 64")]
    [InlineData("policies: other: keep: newest 3, promises: soon", "is not a span")]
    public void A_bad_object_is_refused_with_the_way_out(string text, string message)
    {
        var (section, name, fields) = (text.Split(": ")[0], text.Split(": ")[1], text.Split(": ", 3)[2]);
        var mine = Map((name, Map([.. fields.Split(", ").Select(f => (f.Split(": ", 2)[0], (CharterNode)Text(f.Split(": ", 2)[1])))])));
        var disks = ("disks", (CharterNode)Map(("serves", Text("daily")), ("media", Text("D-1")), ("protected-for", Text("6 days"))));
        var sections = new List<(string, CharterNode)> { ("charter", Text("1")) };
        if (section == "media-groups")
            sections.Add((section, new MapNode([(Text(disks.Item1), disks.Item2), .. mine.Entries], 1, 1)));
        else
            sections.AddRange([("media-groups", Map(disks)), (section, mine)]);
        var reading = CharterReader.Read(Map([.. sections]));
        Assert.Null(reading.Charter);
        Assert.Contains(reading.Mistakes, m => m.Message.Contains(message, StringComparison.Ordinal));
    }

    private static string Clean(string path) =>
        "/" + string.Join('/', path.Split('/', StringSplitOptions.RemoveEmptyEntries).Where(p => p != "."));

    private static MapNode Nodes(JobDefinition job)
    {
        var stores = Map(("a", Map(("folder", Text("/a")))), ("b", Map(("folder", Text("/b")))));
        var policies = Map(("p", Map(("keep", Text("newest 2")))));
        var channels = Map(("crew", Map(("mail-to", Text("a@b.example")), ("mail-from", Text("a@b.example")), ("pickup", Text("/x")))));
        var other = Map(("takes", Text("/o")), ("into", Text("a")), ("policy", Text("p")), ("when", Text("daily at 01:00")));
        var mine = Map([
            .. CharterFields
                .Of(job)
                .Select(f =>
                    (f.Key, f.IsList ? new ListNode([.. f.Values.Select(v => (CharterNode)Text(v))], 1, 1) : (CharterNode)Text(f.Values[0]))
                ),
        ]);
        return Map(
            ("charter", Text("1")),
            ("machines", Map(("heron", Map(("runs-at-once", Text("2")))))),
            ("calendars", Map(("holidays", Map(("closed", Text("dec 25")))))),
            ("stores", stores),
            ("policies", policies),
            ("channels", channels),
            ("jobs", Map(("other", other), ("job", mine)))
        );
    }

    private static ScalarNode Text(string value) => new(value, 1, 1);

    private static MapNode Map(params (string Key, CharterNode Value)[] entries) =>
        new([.. entries.Select(e => (Text(e.Key), e.Value))], 1, 1);
}
