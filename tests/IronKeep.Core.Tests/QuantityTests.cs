using CsCheck;
using IronKeep.Core.Charters;
using IronKeep.Core.Quantities;
using IronKeep.Core.Watching;
using NodaTime;

namespace IronKeep.Core.Tests;

public sealed class QuantityTests
{
    [Theory]
    [InlineData("800 GB", 800_000_000_000)]
    [InlineData("1.5 TiB", 1_649_267_441_664)]
    [InlineData("10kb", 10_000)]
    [InlineData("0 B", 0)]
    public void A_size_means_its_unit(string text, long bytes)
    {
        Assert.True(ByteSize.TryParse(text, out var size, out _));
        Assert.Equal(bytes, size.Bytes);
    }

    [Theory]
    [InlineData("10", "has no unit; write 10 GB")]
    [InlineData("GB", "is not a size")]
    [InlineData("-1 GB", "is not a size")]
    [InlineData("1 GBs", "'GBs' is not a unit of size")]
    [InlineData("99999999999 TB", "larger than any store")]
    public void A_bad_size_says_what_would_be_right(string text, string says)
    {
        Assert.False(ByteSize.TryParse(text, out _, out var problem));
        Assert.Contains(says, problem);
    }

    [Fact]
    public void Sizes_and_spans_written_exactly_read_back_as_themselves()
    {
        Gen.Long[0, long.MaxValue / 4]
            .Sample(bytes =>
            {
                Assert.True(ByteSize.TryParse(new ByteSize(bytes).ToExactText(), out var back, out _));
                Assert.Equal(bytes, back.Bytes);
            });
        Gen.Select(Gen.Int[0, Span.LargestCount], Gen.Enum<SpanUnit>())
            .Sample(
                (count, unit) =>
                {
                    var span = new Span(count, unit);
                    Assert.True(Span.TryParse(span.ToString(), out var back, out _));
                    Assert.Equal(span, back);
                }
            );
    }

    [Fact]
    public void Days_move_the_wall_clock_and_hours_elapse()
    {
        var berlin = DateTimeZoneProviders.Tzdb["Europe/Berlin"];
        var noon = Instant.FromUtc(2027, 3, 27, 11, 0);
        Assert.Equal(Duration.FromHours(23), new Span(1, SpanUnit.Days).After(noon, berlin) - noon);
        Assert.Equal(Duration.FromHours(24), new Span(24, SpanUnit.Hours).After(noon, berlin) - noon);
        // The last of January and a month later is the last of February.
        Assert.Equal(Instant.FromUtc(2027, 2, 28, 11, 0), new Span(1, SpanUnit.Months).After(Instant.FromUtc(2027, 1, 31, 11, 0), berlin));
    }

    [Fact]
    public void Every_word_of_an_outcome_state_and_class_reads_back_and_every_class_has_a_remedy()
    {
        Assert.All(Enum.GetValues<Outcome>(), o => Assert.Equal(o, Kebab.Read<Outcome>(Kebab.From(o.ToString()))));
        Assert.Equal("timed-out", Kebab.From(nameof(Outcome.TimedOut)));
        Assert.Null(Kebab.Read<CopyState>("Sound"));
        var remedies = Enum.GetValues<FailureClass>().Select(FailureWords.Remedy).ToList();
        Assert.Equal(remedies.Count, remedies.Distinct().Count());
    }

    [Fact]
    public void A_comparison_of_charters_names_what_was_added_removed_and_changed()
    {
        var store = new StoreDefinition("cellar", "/srv/cellar", new ByteSize(1000), null, StoreDefinition.UsualBin);
        var before = Charter.Empty with { Stores = Charter.Empty.Stores.Add("cellar", store).Add("attic", store with { Name = "attic" }) };
        var after = before with
        {
            Zone = DateTimeZoneProviders.Tzdb["Asia/Kolkata"],
            Stores = before
                .Stores.Remove("attic")
                .SetItem("cellar", store with { Capacity = null })
                .Add("barn", store with { Name = "barn" }),
        };
        Assert.Empty(CharterDiff.Compare(before, before));
        var changes = CharterDiff.Compare(before, after);
        Assert.Equal(
            ["Changed charter settings", "Removed store attic", "Added store barn", "Changed store cellar"],
            changes.Select(c => $"{c.Kind} {c.Object} {c.Name}")
        );
        Assert.Equal(new FieldChange("capacity", "1 kB", null), changes[3].Fields[0]);
    }
}
