using IronKeep.Core.Watching;

namespace IronKeep.Core.Tests;

/// <summary>When a run changed so much at once that somebody should look. Source: docs/semantics.md, section 6 (Watching).</summary>
public sealed class SurgeTests
{
    private static ChurnMeasure Run(
        long known = 1000,
        long altered = 10,
        long gone = 0,
        long added = 5,
        long bytes = 10_000_000,
        long stored = 5_000_000
    ) => new(new Churn(known, altered, gone, added), bytes, stored);

    private static readonly ChurnMeasure[] Calm = [Run(), Run(altered: 20), Run(altered: 5)];

    [Theory]
    [InlineData(1000, 501, 0, 0, "501 of 1000 files have another content (50 %), where 1 % are usual")]
    [InlineData(1000, 500, 0, 0, null)]
    [InlineData(98, 50, 0, 0, "50 of 98 files have another content (51 %), where 1 % are usual")]
    [InlineData(98, 49, 0, 0, null)]
    [InlineData(60, 49, 0, 0, null)]
    [InlineData(400, 0, 600, 601, "600 of 1000 names are gone and 601 others are there, where 0 % are usual")]
    [InlineData(400, 0, 600, 10, null)]
    [InlineData(1000, 0, 10, 5000, null)]
    [InlineData(500, 0, 500, 500, null)]
    public void Most_files_or_most_names_at_once_are_a_surge(long known, long altered, long gone, long added, string? says)
    {
        Assert.Equal(says ?? "", string.Join('\n', Surges.Judge(Calm, Run(known, altered, gone, added))));
    }

    [Theory]
    [InlineData(10_000_000, 8_750_000, null)]
    [InlineData(10_000_000, 8_750_001, "10 MB of new content shrank by 12 %, where 50 % are usual")]
    [InlineData(10_000_000, 10_200_000, "10 MB of new content shrank by 0 %, where 50 % are usual")]
    [InlineData(5_000_000, 5_000_000, "5 MB of new content shrank by 0 %, where 50 % are usual")]
    [InlineData(4_999_999, 4_999_999, null)]
    public void New_content_that_does_not_shrink_any_more_is_a_surge(long bytes, long stored, string? says) =>
        Assert.Equal(says ?? "", string.Join('\n', Surges.Judge(Calm, Run(bytes: bytes, stored: stored))));

    [Fact]
    public void What_is_usual_for_a_job_is_none()
    {
        // A job whose files are made anew every night, or never shrank.
        var dumps = Enumerable.Repeat(Run(altered: 900, gone: 0), 4).ToArray();
        Assert.Empty(Surges.Judge(dumps, Run(altered: 1000)));
        var pictures = Enumerable.Repeat(Run(stored: 8_600_000), 4).ToArray();
        Assert.Empty(Surges.Judge(pictures, Run(stored: 10_000_000)));
        Assert.Single(Surges.Judge([.. Enumerable.Repeat(Run(stored: 8_500_000), 4)], Run(stored: 10_000_000)));
        // Three times the usual share and no less.
        var busy = Enumerable.Repeat(Run(altered: 200), 4).ToArray();
        Assert.Empty(Surges.Judge(busy, Run(altered: 600)));
        Assert.Single(Surges.Judge(busy, Run(altered: 601)));
        // One night in the middle of the seven decides, and an eighth does not.
        ChurnMeasure[] mixed = [.. Enumerable.Repeat(Run(altered: 300), 4), .. Enumerable.Repeat(Run(), 3)];
        Assert.Empty(Surges.Judge(mixed, Run(altered: 800)));
        Assert.Single(Surges.Judge([.. mixed[4..], .. mixed[..3], Run(), Run()], Run(altered: 800)));
    }

    [Fact]
    public void The_first_runs_learn_and_runs_of_which_nothing_is_known_teach_nothing()
    {
        Assert.Empty(Surges.Judge(Calm[..2], Run(altered: 1000, stored: 10_000_000)));
        Assert.Equal(2, Surges.Judge(Calm, Run(altered: 1000, stored: 10_000_000)).Length);
        // The first copy of all, and runs from before this was measured, have no files before them.
        var unknown = Run(known: 0, altered: 0, added: 0);
        Assert.Empty(Surges.Judge([Run(), Run(), unknown], Run(altered: 1000)));
        Assert.Single(Surges.Judge([Run(), Run(), unknown, Run()], Run(altered: 1000)));
    }
}
