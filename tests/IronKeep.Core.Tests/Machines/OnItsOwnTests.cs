using IronKeep.Core.Machines;

namespace IronKeep.Core.Tests.Machines;

/// <summary>What an agent carries out while the service is away, and what it leaves.</summary>
public sealed class OnItsOwnTests
{
    private static readonly DateTimeOffset Due = new(2026, 12, 1, 22, 0, 0, TimeSpan.Zero);
    private static readonly MachineState Awake = new(AwakeSeconds: 3600, OnMains: true);

    private static OwnJob Job(string name, params int[] hours) =>
        new(name, [.. hours.Select(h => Due.AddHours(h))], TimeSpan.FromMinutes(30), TimeSpan.FromMinutes(10), []);

    private static (string, DateTimeOffset)? Next(
        DateTimeOffset now,
        DateTimeOffset? contact = null,
        MachineState? state = null,
        params OwnJob[] jobs
    ) => OnItsOwn.Next(jobs, new HashSet<(string, DateTimeOffset)>(), contact, state ?? Awake, now);

    [Fact]
    public void What_came_since_the_last_contact_is_carried_out_once()
    {
        var job = Job("cameras", 0, 24);
        Assert.Null(Next(Due.AddSeconds(-1), jobs: job));
        Assert.Equal(("cameras", Due), Next(Due, jobs: job));
        Assert.Equal(("cameras", Due), Next(Due.AddMinutes(30), jobs: job));
        // The service was there when it was due, so it is the service's matter.
        Assert.Null(Next(Due.AddMinutes(1), contact: Due, jobs: job));
        Assert.Equal(("cameras", Due), Next(Due.AddMinutes(1), contact: Due.AddSeconds(-1), jobs: job));
        var done = new HashSet<(string, DateTimeOffset)> { ("cameras", Due) };
        Assert.Null(OnItsOwn.Next([job], done, null, Awake, Due.AddMinutes(1)));
        Assert.Equal(("cameras", Due.AddHours(24)), OnItsOwn.Next([job], done, null, Awake, Due.AddHours(24)));
        // The clock was set back: what was done is not done again.
        Assert.Null(OnItsOwn.Next([job], done, null, Awake, Due.AddHours(-1)));
    }

    [Fact]
    public void Of_several_jobs_the_one_that_was_due_first_comes_first()
    {
        Assert.Equal(("b", Due), Next(Due.AddHours(1).AddMinutes(5), jobs: [Job("a", 1), Job("b", 0), Job("c", 1)]));
        Assert.Equal(("a", Due.AddHours(1)), Next(Due.AddHours(1).AddMinutes(5), jobs: [Job("a", 0, 1), Job("b", 2)]));
    }

    [Fact]
    public void What_was_missed_is_made_up_for_by_one_run_when_the_machine_has_settled()
    {
        var nights = Job("cameras", 0, 24, 48, 72);
        var now = Due.AddHours(50);
        Assert.Equal(("cameras", Due.AddHours(48)), Next(now, jobs: nights));
        Assert.Null(Next(now, state: Awake with { AwakeSeconds = 599 }, jobs: nights));
        Assert.NotNull(Next(now, state: Awake with { AwakeSeconds = 600 }, jobs: nights));
        // One that cannot tell how long it has been awake has been.
        Assert.NotNull(Next(now, state: new MachineState(), jobs: nights));
        // In its time it does not wait for that.
        Assert.NotNull(Next(Due.AddHours(48).AddMinutes(30), state: Awake with { AwakeSeconds = 1 }, jobs: nights));
        Assert.Null(Next(Due.AddHours(48).AddMinutes(31), state: Awake with { AwakeSeconds = 1 }, jobs: nights));
        // The next is near, and serves for it.
        Assert.Null(Next(Due.AddHours(70).AddSeconds(1), jobs: nights));
        Assert.NotNull(Next(Due.AddHours(70), jobs: nights));
    }

    /// <summary>
    /// Five days without the service, told from a seed: the machine is off for hours and its clock is set ahead and back by hours. What
    /// would be done is set beside a plain retelling of the rules: nothing twice, everything in its time while the machine is on and its
    /// clock goes on evenly, and one run for all that was missed.
    /// </summary>
    [Theory]
    [InlineData(1)]
    [InlineData(2)]
    [InlineData(3)]
    [InlineData(4)]
    public void Days_alone_with_restarts_and_clocks_that_are_set_do_each_due_time_once(int seed)
    {
        var random = new Random(seed);
        OwnJob[] jobs = [Job("hourly", [.. Enumerable.Range(0, 24 * 8)]), Job("nightly", [.. Enumerable.Range(0, 8).Select(d => 24 * d)])];
        var contact = Due.AddMinutes(-5);
        var done = new List<(string Job, DateTimeOffset Due)>();
        var (clock, awake) = (contact, 86_400.0);
        // From when on by its own clock the machine was on and its clock not set.
        var evenSince = contact;
        for (var real = 0; real < 5 * 24 * 60; real++)
        {
            var minutes = 1;
            if (random.Next(24 * 60) == 0)
                (minutes, awake) = (random.Next(10, 600), 0);
            var set = random.Next(24 * 60) == 0 ? random.Next(-300, 300) : 0;
            real += minutes - 1;
            clock = clock.AddMinutes(minutes + set);
            if (set != 0 || minutes > 1)
                evenSince = clock;
            awake += minutes == 1 ? 60 : 0;
            while (OnItsOwn.Next(jobs, done.ToHashSet(), contact, Awake with { AwakeSeconds = awake }, clock) is { } next)
            {
                Assert.DoesNotContain(next, done);
                Assert.True(next.Due <= clock && next.Due > contact);
                // Of one job nothing older is done than what its clock has just passed.
                Assert.Equal(jobs.Single(j => j.Name == next.Job).Dues.Last(d => d <= clock), next.Due);
                done.Add(next);
            }
            // While all goes evenly nothing that is due is left.
            foreach (var job in jobs)
                if (job.Dues.LastOrDefault(d => d <= clock) is var due && due > evenSince)
                    Assert.Contains((job.Name, due), done);
        }
        Assert.Equal(done.Count, done.Distinct().Count());
        Assert.True(done.Count > 60, $"{done.Count}");
    }

    [Fact]
    public void A_job_waits_for_what_it_needs()
    {
        var job = Job("cameras", 0) with { Needs = [MachineNeed.Read("mains power").Need!] };
        Assert.Null(Next(Due, state: Awake with { OnMains = false }, jobs: job));
        Assert.NotNull(Next(Due, jobs: job));
        Assert.Null(Next(Due, jobs: job with { Needs = [MachineNeed.Unknown("a full moon")] }));
    }
}
