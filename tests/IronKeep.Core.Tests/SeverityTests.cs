using IronKeep.Core.Watching;

namespace IronKeep.Core.Tests;

/// <summary>How grave an alert is. Source: docs/semantics.md, section 6 (Watching).</summary>
public sealed class SeverityTests
{
    [Theory]
    [InlineData(AlertClass.Unsound, Severity.Danger, Severity.Danger)]
    [InlineData(AlertClass.Surge, Severity.Danger, Severity.Danger)]
    [InlineData(AlertClass.Stale, Severity.BrokenPromise, Severity.BrokenPromise)]
    [InlineData(AlertClass.Service, Severity.BrokenPromise, Severity.BrokenPromise)]
    [InlineData(AlertClass.Failed, Severity.Failure, Severity.BrokenPromise)]
    [InlineData(AlertClass.Missed, Severity.Failure, Severity.BrokenPromise)]
    [InlineData(AlertClass.Overdue, Severity.Failure, Severity.BrokenPromise)]
    [InlineData(AlertClass.Suspect, Severity.Failure, Severity.BrokenPromise)]
    [InlineData(AlertClass.Untold, Severity.Failure, Severity.Failure)]
    [InlineData(AlertClass.Unread, Severity.Failure, Severity.Failure)]
    [InlineData(AlertClass.Clock, Severity.Failure, Severity.Failure)]
    [InlineData(AlertClass.Down, Severity.Failure, Severity.Failure)]
    [InlineData(AlertClass.NearlyFull, Severity.Notice, Severity.Notice)]
    [InlineData(AlertClass.BrakedPrune, Severity.Notice, Severity.Notice)]
    [InlineData(AlertClass.SignIns, Severity.Notice, Severity.Notice)]
    [InlineData(AlertClass.Silent, Severity.Notice, Severity.Notice)]
    public void It_follows_from_what_is_at_stake(AlertClass kind, Severity usual, Severity whenStale)
    {
        Assert.Equal(usual, Severities.Of(kind));
        Assert.Equal(whenStale, Severities.Of(kind, stale: true));
        // What the job says of its alerts stands above both, up and down.
        Assert.Equal(Severity.Danger, Severities.Of(kind, said: Severity.Danger));
        Assert.Equal(Severity.Notice, Severities.Of(kind, stale: true, said: Severity.Notice));
    }

    [Fact]
    public void Every_class_has_one_and_the_gravest_comes_last()
    {
        Assert.Equal(16, Enum.GetValues<AlertClass>().Length);
        Assert.Equal([Severity.Notice, Severity.Failure, Severity.BrokenPromise, Severity.Danger], Enum.GetValues<Severity>().Order());
    }
}
