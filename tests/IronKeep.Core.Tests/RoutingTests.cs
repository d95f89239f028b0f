using IronKeep.Core.Charters;
using IronKeep.Core.Telling;
using IronKeep.Core.Watching;
using IronKeep.Yaml;
using NodaTime;
using NodaTime.Text;

namespace IronKeep.Core.Tests;

/// <summary>Who is told of what, when, and why. Source: docs/semantics.md, section 6 (Watching).</summary>
public sealed class RoutingTests
{
    private const string Head = """
        charter: 1
        zone: Europe/London
        tells: crew
        machines:
          knot: { tags: mainland }
          heron: {}
        stores:
          cellar: { folder: /srv/cellar }
        policies:
          p: { keep: newest 3 }
        channels:
          crew: { mail-to: crew@saltmere.example, mail-from: k@saltmere.example, pickup: /srv/crew }
          post: { mail-to: office@saltmere.example, mail-from: k@saltmere.example, pickup: /srv/post }
          pager: { webhook: 'https://pager.example/x' }
        jobs:
          counts: { takes: /srv/counts, into: cellar, policy: p, on: knot }
          own: { takes: /srv/own, into: cellar, policy: p, tells: pager }
          tagged: { takes: /srv/tagged, into: cellar, policy: p, tags: season }

        """;

    private static Charter Read(string more)
    {
        var reading = CharterYaml.Read(Head + more);
        Assert.True(reading.Charter is not null, string.Join('\n', reading.Mistakes));
        var again = CharterYaml.Read(CharterWriter.Write(reading.Charter));
        Assert.Empty(CharterDiff.Compare(reading.Charter, again.Charter!));
        return reading.Charter;
    }

    private static Instant At(string local, string zone = "Europe/London") =>
        LocalDateTimePattern
            .CreateWithInvariantCulture("uuuu-MM-dd HH:mm")
            .Parse(local)
            .Value.InZoneLeniently(DateTimeZoneProviders.Tzdb[zone])
            .ToInstant();

    private static string Names(IEnumerable<Recipient> to) => string.Join(", ", to.Select(t => t.To.Person ?? t.To.Channel));

    private static Told Failed(string? job = null, Severity severity = Severity.Failure) =>
        new(AlertClass.Failed, severity, job, job is null ? null : "knot");

    private const string People = """
        people:
          mira: { told-by: [post, pager], mail: mira@saltmere.example }
          tobias: { told-by: post, mail: tobias@saltmere.example, hours: 07:00 to 22:00 }
          wren: { told-by: post, mail: wren@saltmere.example, away: 2026-12-24 to 2027-01-02 }
        rotas:
          watch: { members: [mira, tobias, wren], changes: mon at 09:00, first: 2026-11-30, stand-in: mira }
        """;

    /// <summary>
    /// The first turn goes to the second change; a turn begins with its very minute, and one over a clock change is an hour longer.
    /// </summary>
    [Theory]
    [InlineData("2026-11-01 00:00", "mira")]
    [InlineData("2026-11-30 09:00", "mira")]
    [InlineData("2026-12-07 08:59", "mira")]
    [InlineData("2026-12-07 09:00", "tobias")]
    [InlineData("2026-12-14 09:00", "wren")]
    [InlineData("2026-12-21 09:00", "mira")]
    [InlineData("2027-03-29 08:59", "tobias")]
    [InlineData("2027-03-29 09:00", "wren")]
    public void Turns_go_round_by_local_time(string at, string person)
    {
        var rota = Read(People).Rotas["watch"];
        var zone = DateTimeZoneProviders.Tzdb["Europe/London"];
        Assert.Equal(person, rota.TurnAt(At(at), zone).Person);
        // What it remembers of one turn is not given for another.
        Assert.Equal("tobias", rota.TurnAt(At("2026-12-10 12:00"), zone).Person);
        Assert.Equal(person, rota.TurnAt(At(at), zone).Person);
        Assert.Equal("wren", (rota with { Members = ["wren"] }).TurnAt(At(at), zone).Person);
    }

    [Fact]
    public void A_duty_over_a_clock_change_has_the_hour_more_or_less_and_turns_join_without_a_gap()
    {
        var rota = Read(People).Rotas["watch"];
        var zone = DateTimeZoneProviders.Tzdb["Europe/London"];
        var turns = rota.Turns(At("2026-11-01 00:00"), At("2027-11-30 00:00"), zone).ToList();
        Assert.All(turns.Zip(turns.Skip(1)), pair => Assert.Equal(pair.First.Until, pair.Second.From));
        Assert.Equal(Instant.MinValue, turns[0].From);
        Duration Length(string at) => rota.TurnAt(At(at), zone) is var t ? t.Until - t.From : default;
        Assert.Equal(Duration.FromHours(167), Length("2027-03-27 12:00"));
        Assert.Equal(Duration.FromHours(169), Length("2027-10-30 12:00"));
        Assert.Equal(Duration.FromHours(168), Length("2027-05-05 12:00"));
    }

    [Fact]
    public void The_stand_in_is_told_while_the_one_on_duty_is_away_or_outside_their_hours()
    {
        var charter = Read(People + "\nroutes:\n  all: { tells: watch }");
        Addressee One(string at) => Routing.Of(charter, Failed("counts"), At(at))[0].To;
        Assert.Equal("tobias", One("2026-12-08 21:59").Person);
        var night = One("2026-12-08 22:00");
        Assert.Equal(("mira", "watch", "mira@saltmere.example"), (night.Person, night.Rota, night.Mail));
        Assert.Contains("mira stands in on rota watch while tobias is outside their hours", night.Why);
        Assert.Equal("wren", One("2027-01-06 12:00").Person);
        Assert.Equal("tobias", One("2026-12-29 12:00").Person);
        // A person's mail goes to the person, a page to wherever the channel pages.
        var to = Routing.Of(charter, Failed("counts"), At("2026-12-01 12:00"));
        Assert.Equal([("post", "mira@saltmere.example"), ("pager", null)], to.Select(t => t.To.Place));
    }

    [Fact]
    public void Somebody_on_duty_is_told_when_all_are_away()
    {
        // Of a rota it is the one on duty, not a stand-in who is away too.
        var both = Read(
            "people:\n  d: { told-by: post, away: 2026-12-25 }\n  n: { told-by: crew, away: 2026-12-25 }\n"
                + "rotas:\n  r: { members: d, changes: mon at 09:00, first: 2026-12-01, stand-in: n }\nroutes:\n  x: { tells: r }"
        );
        Assert.Equal("d", Names(Routing.Of(both, Failed(), At("2026-12-25 12:00"))));
        var charter = Read(
            """
            people:
              wren: { told-by: post, mail: wren@saltmere.example, away: [2026-12-24 to 2027-01-02] }
            routes:
              all: { tells: wren }
            """
        );
        Assert.False(Addressees.ReachesAnybody(charter, ["wren"], At("2026-12-25 12:00")));
        var told = Assert.Single(Routing.Of(charter, Failed(), At("2026-12-25 12:00")));
        Assert.Contains("wren is named, who is away, and there is nobody else", told.To.Why);
        var hole = Holes.First(charter, ["wren"], At("2026-12-01 00:00"), At("2027-02-01 00:00"))!;
        Assert.Equal((At("2026-12-24 00:00"), At("2027-01-03 00:00")), (hole.From, hole.Until));
        Assert.Null(Holes.First(charter, ["wren"], At("2026-11-01 00:00"), At("2026-12-24 00:00")));
        Assert.Null(Holes.First(charter, ["wren", "crew"], At("2026-12-01 00:00"), At("2027-02-01 00:00")));
    }

    [Theory]
    [InlineData("severity: danger", "crew", "crew", "post")]
    [InlineData("severity: [failure, danger]", "post", "post", "post")]
    [InlineData("class: [missed, failed]", "post", "post", "post")]
    [InlineData("class: missed", "crew", "crew", "crew")]
    [InlineData("tags: mainland", "post", "crew", "post")]
    [InlineData("tags: [season]", "crew", "crew", "crew")]
    [InlineData("machines: heron", "crew", "crew", "crew")]
    [InlineData("machines: knot", "post", "crew", "post")]
    [InlineData("jobs: counts", "post", "crew", "post")]
    [InlineData("stores: cellar", "post", "crew", "post")]
    [InlineData("severity: danger, jobs: counts", "crew", "crew", "post")]
    public void A_route_takes_what_all_of_its_conditions_apply_to(string conditions, string job, string other, string danger)
    {
        var charter = Read($"routes:\n  one: {{ {conditions}, tells: post }}");
        Assert.Equal(job, Names(Routing.Of(charter, Failed("counts"), At("2026-12-01 12:00"))));
        Assert.Equal(other, Names(Routing.Of(charter, Failed(), At("2026-12-01 12:00"))));
        Assert.Equal(danger, Names(Routing.Of(charter, Failed("counts", Severity.Danger), At("2026-12-01 12:00"))));
    }

    [Fact]
    public void A_jobs_own_channels_are_told_beside_routes_and_a_channel_never_of_itself()
    {
        var at = At("2026-12-01 12:00");
        var plain = Read("");
        Assert.Equal("pager", Names(Routing.Of(plain, new Told(AlertClass.Failed, Severity.Failure, "own", "heron"), at)));
        Assert.Equal("crew", Names(Routing.Of(plain, Failed("counts"), at)));
        var routed = Read("routes:\n  a: { tells: [post, pager] }\n  b: { tells: post }");
        Assert.Equal("post, pager", Names(Routing.Of(routed, new Told(AlertClass.Failed, Severity.Failure, "own", "heron"), at)));
        var dead = new Told(AlertClass.Untold, Severity.Failure) { Channel = "post" };
        Assert.Equal("pager", Names(Routing.Of(routed, dead, at)));
        Assert.Equal("crew, pager", Names(Routing.Of(plain, dead, at)));
        // A route that would tell through the dead channel alone leaves it to all others.
        Assert.Equal("crew, pager", Names(Routing.Of(Read("routes:\n  b: { tells: post }"), dead, at)));
    }

    [Fact]
    public void What_waits_for_a_digest_is_told_to_who_is_on_duty_then_and_at_once_where_another_route_says_so()
    {
        var charter = Read(
            People + "\nroutes:\n  calm: { tells: watch, digest: mon at 12:00 }\n  grave: { severity: danger, tells: [post, watch] }"
        );
        var calm = Routing.Of(charter, Failed(), At("2026-12-05 12:00"));
        // On Saturday it is Mira's turn, on Monday at noon Tobias's.
        Assert.Equal("tobias", Names(calm));
        Assert.Equal((At("2026-12-07 12:00"), "route calm"), (calm[0].Gathered!.At, calm[0].Gathered!.Name));
        var grave = Routing.Of(charter, Failed(severity: Severity.Danger), At("2026-12-01 12:00"));
        Assert.Equal([false, false, false, true], grave.Select(t => t.Gathered is not null));
        Assert.Equal("post, mira, mira, tobias", Names(grave));
    }

    [Fact]
    public void A_maintenance_window_keeps_back_what_it_covers_until_it_ends()
    {
        var charter = Read(
            """
            maintenance-windows:
              link: { when: sat at 22:00, lasts: 6 hours, tags: mainland }
              all: { when: 'daily at 23:00', lasts: 30 min, everything: yes }
              store: { when: sat at 22:00, lasts: 1 day, stores: cellar }
            """
        );
        Gathering? Of(string at, Told matter) => Routing.Maintenance(charter, matter, At(at));
        var job = new Told(AlertClass.Failed, Severity.Failure, "counts", "knot");
        var other = new Told(AlertClass.Silent, Severity.Notice, null, "heron");
        Assert.Null(Of("2026-12-05 21:59", job));
        // The latest end of those that cover it.
        Assert.Equal(At("2026-12-06 22:00"), Of("2026-12-05 22:00", job)!.At);
        Assert.Equal(At("2026-12-06 04:00"), Of("2026-12-05 22:00", new Told(AlertClass.Silent, Severity.Notice, null, "knot"))!.At);
        Assert.Null(Of("2026-12-06 04:00", new Told(AlertClass.Silent, Severity.Notice, null, "knot")));
        Assert.Null(Of("2026-12-05 22:30", other));
        Assert.Equal(At("2026-12-05 23:30"), Of("2026-12-05 23:00", other)!.At);
        Assert.Null(Of("2026-12-05 23:30", other));
        Assert.Equal("maintenance window store", Routing.Of(charter, job, At("2026-12-05 22:00"))[0].Gathered!.Name);
    }

    [Fact]
    public void What_nobody_has_seen_goes_to_the_next_after_the_routes_time()
    {
        var charter = Read(People + "\nroutes:\n  all: { tells: post, unseen-for: 30 min, then-tells: [watch, crew] }");
        var then = Assert.Single(Routing.Escalations(charter, Failed("counts"), At("2026-12-08 21:45")));
        Assert.Equal(At("2026-12-08 22:15"), then.At);
        // By then it is after Tobias's hours.
        Assert.Equal(["mira", "mira", null], then.To.Select(t => t.Person));
    }

    [Fact]
    public void The_end_of_a_run_is_told_to_whoever_wants_to_hear_always()
    {
        var charter = Read("routes:\n  a: { jobs: counts, tells: post, tell-when: always }\n  b: { jobs: tagged, tells: pager }");
        var at = At("2026-12-01 12:00");
        string Of(string job, bool trouble) => Names(Routing.OfRunEnd(charter, charter.Jobs[job], "knot", trouble, at));
        Assert.Equal(("post", "post"), (Of("counts", false), Of("counts", true)));
        Assert.Equal(("", "pager"), (Of("tagged", false), Of("tagged", true)));
        Assert.Equal(("", "pager"), (Of("own", false), Of("own", true)));
    }

    [Theory]
    [InlineData("people:\n  mira: { mail: m@x.example }", "'told-by' is missing")]
    [InlineData("people:\n  mira: { told-by: post, mail: nobody }", "'nobody' is not a mail address")]
    [InlineData("people:\n  mira: { told-by: past }", "there is no channel 'past'; did you mean 'post'?")]
    [InlineData("people:\n  post: { told-by: post }", "there is a channel 'post' too, and 'tells' could mean either")]
    [InlineData("people:\n  m: { told-by: post, hours: 07:00 }", "to")]
    [InlineData("people:\n  m: { told-by: post, away: someday }", "'someday' is not a date")]
    [InlineData("rotas:\n  r: { members: [nobody], changes: mon at 09:00, first: 2026-12-01 }", "there is no person 'nobody'")]
    [InlineData(
        "people:\n  m: { told-by: post }\nrotas:\n  r: { members: m, changes: mon at 09:00, first: 1999-12-01 }",
        "from 2020-01-01 on"
    )]
    [InlineData(
        "people:\n  m: { told-by: post }\nrotas:\n  r: { members: m, changes: mon at 09:00 until 2027-01-01, first: 2026-12-01 }",
        "for ever"
    )]
    [InlineData(
        "people:\n  m: { told-by: post }\nrotas:\n  r: { members: m, changes: every 30 minutes, first: 2026-12-01 }",
        "changes more often than every hour"
    )]
    [InlineData("routes:\n  r: { severity: danger }", "'tells' is missing")]
    [InlineData("routes:\n  r: { severity: grave, tells: post }", "'grave' is not known here")]
    [InlineData("routes:\n  r: { tells: night }", "there is no channel, person or rota 'night'")]
    [InlineData("routes:\n  r: { tells: post, unseen-for: 1 hour }", "'unseen-for' and 'then-tells' go together")]
    [InlineData("routes:\n  r: { tells: post, unseen-for: 2 days, then-tells: crew }", "longer than 12 hours")]
    [InlineData("routes:\n  r: { tells: post, severity: danger, tell-when: always }", "make two routes of it")]
    [InlineData("maintenance-windows:\n  w: { when: sat at 22:00, lasts: 6 hours }", "covers nothing")]
    [InlineData("maintenance-windows:\n  w: { when: sat at 22:00, lasts: 3 weeks, everything: yes }", "longer than 14 days")]
    [InlineData("maintenance-windows:\n  w: { when: sat at 22:00, lasts: 1 day, everything: yes, tags: a }", "covers everything already")]
    [InlineData("causes:\n  store-ful: { remedy: Call the office. }", "did you mean 'store-full'?")]
    [InlineData("causes:\n  store-full: {}", "says neither 'cause' nor 'remedy'")]
    public void A_mistake_names_the_thing_and_the_way_out(string more, string says)
    {
        var reading = CharterYaml.Read(Head + more);
        Assert.Contains(reading.Mistakes, m => m.Message.Contains(says, StringComparison.Ordinal));
    }

    /// <summary>Exactly to the minute: hours that join leave no hole, and a minute less does.</summary>
    [Theory]
    [InlineData("07:00 to 22:00", "22:00 to 07:00", null)]
    [InlineData("07:00 to 21:59", "22:00 to 07:00", "nobody is told from Wed 21:59 to Wed 22:00")]
    [InlineData("07:00 to 22:00 on weekdays", "22:00 to 07:00", "nobody is told from Sat 07:00 to Sat 22:00")]
    public void A_route_that_reaches_nobody_at_some_hour_of_the_week_is_a_mistake(string day, string night, string? says)
    {
        var text =
            $"people:\n  d: {{ told-by: post, hours: {day} }}\n  n: {{ told-by: post, hours: {night} }}\nroutes:\n  r: {{ tells: [d, n] }}";
        var reading = CharterYaml.Read(Head + text);
        if (says is null)
            Assert.Empty(reading.Mistakes);
        else
            Assert.Contains(says, Assert.Single(reading.Mistakes).Message);
    }

    [Fact]
    public void A_rota_with_a_hole_names_whose_turn_it_is_and_one_that_changes_by_day_and_night_has_none()
    {
        const string Two = "people:\n  d: { told-by: post, hours: 08:00 to 20:00 }\n  n: { told-by: post, hours: 20:00 to 08:00 }\n";
        var sound =
            Two + "rotas:\n  r: { members: [d, n], changes: 'daily at 08:00, 20:00', first: 2026-12-01 }\nroutes:\n  x: { tells: r }";
        Assert.Empty(CharterYaml.Read(Head + sound).Mistakes);
        var weekly = Two + "rotas:\n  r: { members: [d, n], changes: mon at 08:00, first: 2026-12-01 }\nroutes:\n  x: { tells: r }";
        var mistake = Assert.Single(CharterYaml.Read(Head + weekly).Mistakes);
        Assert.Equal("route x", mistake.About);
        Assert.Contains("nobody is told from Mon 20:00 to Tue 08:00 while d is on duty", mistake.Message);
        // Holidays are no mistake of a week.
        Assert.Empty(CharterYaml.Read(Head + "people:\n  d: { told-by: post, away: dec 25 }\nroutes:\n  x: { tells: d }").Mistakes);
    }

    [Fact]
    public void A_sites_own_words_stand_above_the_usual_ones()
    {
        var charter = Read("causes:\n  store-full: { remedy: Ask the office for the spare disk. }\n  no-end: { cause: it went silent }");
        Assert.Equal("Ask the office for the spare disk.", charter.RemedyOf(FailureClass.StoreFull));
        Assert.Equal("the store is full", charter.CauseOf(FailureClass.StoreFull));
        Assert.Equal("it went silent", charter.CauseOf(FailureClass.NoEnd));
        Assert.Equal(FailureWords.Remedy(FailureClass.NoEnd), charter.RemedyOf(FailureClass.NoEnd));
        foreach (var failure in Enum.GetValues<FailureClass>())
            Assert.NotEmpty(FailureWords.Cause(failure));
    }
}
