using CsCheck;
using IronKeep.Core.Charters;
using IronKeep.Core.Quantities;
using IronKeep.Core.Schedules;
using IronKeep.Core.Watching;
using NodaTime;

namespace IronKeep.Core.Tests;

public sealed class CharterFieldTests
{
    private static readonly Gen<string> Sentences = Pick.Of("daily at 23:00", "weekdays at 05:10, 22:00", "every 6 hours", "every 20 minutes between 22:00 and 04:00 on fri-mon");
    private static readonly Gen<Span> Spans = Gen.Select(Gen.Int[1, 400], Pick.Of(Enum.GetValues<SpanUnit>())).Select((n, u) => new Span(n, u));
    private static readonly Gen<string> Words = Gen.String[Gen.Char["abcdefghijklmnopqrstuvwxyz0123456789 .,:'\"#&*%!?{}[]\\täß"], 1, 12];

    private static readonly Gen<JobDeclaration> Jobs =
        from takes in Words.Array[1, 3]
        from leaves in Words.Array[0, 3]
        from places in Pick.Of("a", "b", "a b")
        from numbers in Gen.Int[0, 200].Array[4]
        from spans in Spans.Array[5]
        from words in Sentences
        from zone in Pick.Of(null, "Europe/Berlin", "Asia/Kolkata")
        from flags in Gen.Bool.Array[8]
        select new JobDeclaration("job", [.. takes.Select(t => "/" + t.Trim().Replace("..", "x", StringComparison.Ordinal))], [.. places.Split(' ')], "p")
        {
            LeavesOut = [.. leaves],
            When = flags[0] ? null : ScheduleSentence.Read(words).Schedule,
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
        };

    /// <summary>Fields make nodes, the reader makes a declaration of them: an equal one, whatever the values.</summary>
    [Fact]
    public void What_the_fields_say_is_what_the_reader_reads() => Jobs.Where(j => j.Takes.All(t => t.Length > 1 && t == Clean(t)) && j.Takes.Distinct().Count() == j.Takes.Length && j.LeavesOut.All(l => l.Trim().Length > 0)).Sample(job =>
    {
        var reading = CharterReader.Read(Nodes(job));
        // Some random patterns are no patterns; that is another test's matter.
        if (reading.Mistakes.Any(m => m.Message.Contains("pattern", StringComparison.Ordinal) || m.Message.Contains("']'", StringComparison.Ordinal))) return true;
        return reading.Charter is { } charter && charter.Jobs["job"].Equals(job)
            && CharterFields.Of(charter.Jobs["job"]).SequenceEqual(CharterFields.Of(job));
    });

    [Fact]
    public void Defaults_are_left_out_and_everything_else_is_not()
    {
        var plain = new JobDeclaration("job", ["/a"], ["s"], "p");
        Assert.Equal(["takes", "into", "policy"], CharterFields.Of(plain).Select(f => f.Key));
        var other = plain with { Retries = 1, Overlap = Overlap.Wait, Band = new Band(10, new ByteSize(5)), StartLimit = new Span(5, SpanUnit.Minutes) };
        Assert.Equal(["takes", "into", "policy", "start-limit", "overlap", "retries", "band"], CharterFields.Of(other).Select(f => f.Key));
        Assert.NotEqual(plain, other);
        Assert.Equal(plain, plain with { LeavesOut = [] });
        var store = new StoreDeclaration("s", "/s", new ByteSize(1000), null, StoreDeclaration.UsualBin);
        Assert.Equal(100, store.NearlyFullBelow(7, 9));
        Assert.Equal(40, (store with { WarnBelow = new ByteSize(40) }).NearlyFullBelow(7, 9));
        Assert.Equal(8, (store with { Capacity = null }).NearlyFullBelow(50, 30));
    }

    [Fact]
    public void A_job_is_due_with_the_first_of_those_it_follows()
    {
        var when = ScheduleSentence.Read("daily at 23:00").Schedule;
        var first = new JobDeclaration("first", ["/a"], ["s"], "p") { When = when };
        var second = new JobDeclaration("second", ["/a"], ["s"], "p") { After = "first", Tells = ["own"] };
        var third = new JobDeclaration("third", ["/a"], ["s"], "p") { After = "second" };
        var charter = Charter.Empty with { Tells = ["all"], Jobs = Charter.Empty.Jobs.Add("first", first).Add("second", second).Add("third", third) };
        Assert.Equal("first", charter.HeadOf(third).Name);
        Assert.Equal("first", charter.HeadOf(first).Name);
        Assert.Equal("own", Assert.Single(charter.TellsOf(second)));
        Assert.Equal("all", Assert.Single(charter.TellsOf(third)));
    }

    private static string Clean(string path) => "/" + string.Join('/', path.Split('/', StringSplitOptions.RemoveEmptyEntries).Where(p => p != "."));

    private static MapNode Nodes(JobDeclaration job)
    {
        var stores = Map(("a", Map(("folder", Text("/a")))), ("b", Map(("folder", Text("/b")))));
        var policies = Map(("p", Map(("keep", Text("newest 2")))));
        var channels = Map(("crew", Map(("mail-to", Text("a@b.example")), ("mail-from", Text("a@b.example")), ("pickup", Text("/x")))));
        var other = Map(("takes", Text("/o")), ("into", Text("a")), ("policy", Text("p")), ("when", Text("daily at 01:00")));
        var mine = Map([.. CharterFields.Of(job).Select(f => (f.Key, f.IsList ? new ListNode([.. f.Values.Select(v => (CharterNode)Text(v))], 1, 1) : (CharterNode)Text(f.Values[0])))]);
        return Map(("charter", Text("1")), ("stores", stores), ("policies", policies), ("channels", channels), ("jobs", Map(("other", other), ("job", mine))));
    }

    private static ScalarNode Text(string value) => new(value, 1, 1);

    private static MapNode Map(params (string Key, CharterNode Value)[] entries) => new([.. entries.Select(e => (Text(e.Key), e.Value))], 1, 1);
}
