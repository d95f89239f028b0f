using System.Collections.Immutable;
using System.Globalization;
using System.Text.RegularExpressions;
using IronKeep.Core.Charters;
using IronKeep.Core.Dated;
using IronKeep.Core.Retention;
using IronKeep.Core.Watching;
using IronKeep.Yaml;
using NodaTime;

namespace IronKeep.Core.Tests;

/// <summary>Names of dated files: what they say, when that is, and which patterns are refused.</summary>
public sealed class DatedNameTests
{
    private static readonly ImmutableArray<(CopyKind, string)> FullAndPart = [(CopyKind.Full, "F"), (CopyKind.Incremental, "I")];

    private static NamePattern Pattern(string text) =>
        NamePattern.Read(text, text.Contains("{kind}", StringComparison.Ordinal) ? FullAndPart : []) is var (pattern, problem)
        && pattern is not null
            ? pattern
            : throw new ArgumentException(problem);

    [Theory]
    [InlineData("{job}-{yyyy}-{MM}-{dd}.sql.gz", "tern-counts-2026-11-03.sql.gz", "tern-counts - - 2026-11-03T00:00:00")]
    [InlineData("{job}-{yyyy}-{MM}-{dd}.sql.gz", "tern-counts-2026-11-03.sql.gz.part", null)]
    [InlineData("{job}-{yyyy}-{MM}-{dd}.sql.gz", "Tern-2026-11-03.sql.gz", null)]
    [InlineData(
        "{yyyy}/{MM}/db_{yyyy}{MM}{dd}T{HH}{mm}{ss}_{kind}.tar",
        "2026/11/db_20261103T235959_I.tar",
        "- - Incremental 2026-11-03T23:59:59"
    )]
    [InlineData("{yyyy}/{MM}/db_{yyyy}{MM}{dd}T{HH}{mm}{ss}_{kind}.tar", "2025/11/db_20261103T235959_I.tar", null)]
    [InlineData("{yyyy}/{MM}/db_{yyyy}{MM}{dd}T{HH}{mm}{ss}_{kind}.tar", "2026/11/db_20261103T240000_I.tar", null)]
    [InlineData("{yyyy}/{MM}/db_{yyyy}{MM}{dd}T{HH}{mm}{ss}_{kind}.tar", "2026/11/db_20261103T235959_X.tar", null)]
    [InlineData("{machine}.{yyyy}{MM}{dd}.*", "knot.20260229.sql", null)]
    [InlineData("{machine}.{yyyy}{MM}{dd}.*", "knot.20280229.sql.zst", "- knot - 2028-02-29T00:00:00")]
    [InlineData("{machine}.{yyyy}{MM}{dd}.*", "knot.20280228.a/b", null)]
    [InlineData("{machine}.{yyyy}{MM}{dd}.*", "knot.20280228.a\nb", null)]
    [InlineData("all\\{1\\}\\*{yyyy}{MM}{dd}", "all{1}*20260101", "- - - 2026-01-01T00:00:00")]
    [InlineData("*{yyyy}{MM}{dd}", "20260101-20260102", "- - - 2026-01-02T00:00:00")]
    [InlineData("{job}{yyyy}{MM}{dd}", "a2026010120260102", "a20260101 - - 2026-01-02T00:00:00")]
    public void A_name_matches_exactly_or_not_at_all(string pattern, string path, string? says)
    {
        var found = Pattern(pattern).Match(path);
        Assert.Equal(
            says,
            found is null
                ? null
                : $"{found.Job ?? "-"} {found.Machine ?? "-"} {found.Kind?.ToString() ?? "-"} "
                    + $"{found.Time.ToString("uuuu-MM-dd'T'HH:mm:ss", CultureInfo.InvariantCulture)}"
        );
    }

    [Theory]
    [InlineData("{job}-{machine}-{yyyy}{MM}{dd}", "{job} ending in two places")]
    [InlineData("{job}*{yyyy}{MM}{dd}", "ending in two places")]
    [InlineData("{yyyy}{MM}{dd}*{HH}*", "ending in two places")]
    [InlineData("{job}-{yyyy}-{MM}", "{dd} is missing")]
    [InlineData("{job}-{yyyy}-{MM}-{dd}T{mm}", "add {HH}")]
    [InlineData("{jobs}-{yyyy}-{MM}-{dd}", "did you mean '{job}'")]
    [InlineData("{job-{yyyy}", "is not known here")]
    [InlineData("../{yyyy}{MM}{dd}", "'..'")]
    [InlineData(".ironkeep-bin/{yyyy}{MM}{dd}", "the service's own")]
    [InlineData("/srv/{yyyy}{MM}{dd}", "below the store's folder")]
    public void A_pattern_that_cannot_be_told_apart_is_refused_with_the_way_out(string pattern, string words) =>
        Assert.Contains(words, NamePattern.Read(pattern, []).Problem);

    /// <summary>
    /// A referee that tries every way to read short names by a pattern of plain regular expressions: two values of a field mean that it
    /// must be refused.
    /// </summary>
    [Fact]
    public void Patterns_are_refused_exactly_when_some_name_can_be_read_in_two_ways()
    {
        var random = new Random(7);
        string[] pieces = ["{job}", "{machine}", "{kind}", "*", "-", "_", "a", "1", "F"];
        var (refused, taken) = (0, 0);
        for (var i = 0; i < 400; i++)
        {
            var head = string.Concat(Enumerable.Range(0, random.Next(1, 5)).Select(_ => pieces[random.Next(pieces.Length)]));
            var (pattern, problem) = NamePattern.Read(
                head + "/{yyyy}{MM}{dd}",
                head.Contains("{kind}", StringComparison.Ordinal) ? FullAndPart : []
            );
            if (problem is not null && !problem.Contains("two places", StringComparison.Ordinal))
                continue;
            var twofold = Names().FirstOrDefault(n => Readings(head, n, 0).Distinct().Count() > 1);
            // The referee sees names of up to four letters; what it does not find may still be there, and never the other way round.
            if (twofold is not null)
                Assert.True(pattern is null, $"{head} reads '{twofold}' in two ways and was taken");
            if (pattern is null)
                refused++;
            else
                taken++;
        }
        Assert.True(refused > 50 && taken > 50, $"{refused} refused, {taken} taken");

        static IEnumerable<string> Names()
        {
            const string letters = "a1-_F";
            for (var length = 0; length <= 4; length++)
            for (var n = 0; n < (int)Math.Pow(letters.Length, length); n++)
                yield return string.Concat(
                    Enumerable.Range(0, length).Select(k => letters[n / (int)Math.Pow(letters.Length, k) % letters.Length])
                );
        }

        static IEnumerable<string> Readings(string pattern, string name, int from)
        {
            if (pattern.Length == 0)
            {
                if (from == name.Length)
                    yield return "";
                yield break;
            }
            var (piece, rest) =
                pattern[0] == '{'
                    ? (pattern[..(pattern.IndexOf('}') + 1)], pattern[(pattern.IndexOf('}') + 1)..])
                    : (pattern[..1], pattern[1..]);
            for (var to = from; to <= name.Length; to++)
            {
                var part = name[from..to];
                var fits = piece switch
                {
                    "{job}" or "{machine}" => Regex.IsMatch(part, "^[a-z0-9]([a-z0-9-]*[a-z0-9])?$"),
                    "{kind}" => part is "F" or "I",
                    "*" => true,
                    _ => part == piece,
                };
                if (!fits)
                    continue;
                foreach (var more in Readings(rest, name, to))
                    yield return piece[0] == '{' ? $"{piece}={part};{more}" : more;
            }
        }
    }

    [Theory]
    // The clock goes from 01:00 to 02:00 in the gap, and from 02:00 back to 01:00 in the repeated hour.
    [InlineData("2027-03-28T01:30:00", "2027-03-28T00:35:00Z", "2027-03-28T01:00:00Z")]
    [InlineData("2026-10-25T01:30:00", "2026-10-25T00:31:00Z", "2026-10-25T00:30:00Z")]
    [InlineData("2026-10-25T01:30:00", "2026-10-25T01:31:00Z", "2026-10-25T01:30:00Z")]
    [InlineData("2026-10-25T01:30:00", "2026-10-25T01:00:00Z", "2026-10-25T00:30:00Z")]
    [InlineData("2026-07-01T01:30:00", "2026-07-09T00:00:00Z", "2026-07-01T00:30:00Z")]
    public void A_time_in_a_name_is_local_and_the_files_own_time_decides_in_the_repeated_hour(string local, string modified, string taken)
    {
        var time = LocalDateTime.FromDateTime(DateTime.Parse(local, CultureInfo.InvariantCulture));
        Assert.Equal(
            taken,
            new DatedName(null, null, null, time)
                .TakenIn(DateTimeZoneProviders.Tzdb["Europe/London"], At(modified))
                .ToString("uuuu-MM-dd'T'HH:mm:ss'Z'", CultureInfo.InvariantCulture)
        );
    }

    private static Instant At(string text) => Instant.FromDateTimeOffset(DateTimeOffset.Parse(text, CultureInfo.InvariantCulture));

    [Fact]
    public void Partial_copies_need_those_below_them_and_without_a_full_one_they_count_for_nothing()
    {
        CopyKind? F = CopyKind.Full,
            D = CopyKind.Differential,
            I = CopyKind.Incremental;
        Assert.Equal([-1, null, 1, 2, 1, 4, null, null, 7], DatedChains.Bases([I, F, I, I, D, I, null, F, D]));
        var day = At("2026-11-01T00:00:00Z");
        CopyFacts[] copies =
        [
            new("i1", day, CopyState.Sound, CopyFacts.NoFull),
            new("f1", day + Duration.FromDays(1), CopyState.Sound),
            new("i2", day + Duration.FromDays(2), CopyState.Sound, "f1"),
        ];
        var answer = RetentionRules.Decide(
            RetentionSentence.Read("newest 1").Policy!,
            new RetentionGuards(DateTimeZone.Utc, 1),
            copies,
            day + Duration.FromDays(20)
        );
        Assert.Equal(["i2 Keep", "f1 Support", "i1 Expire"], answer.Copies.Select(c => $"{c.Copy.Id} {c.Verdict}"));
        Assert.Contains("its chain begins with no full copy", string.Join(';', answer.Copies[2].Reasons));
    }

    private const string Charter = """
        charter: 1
        stores:
          dumps: { folder: /srv/dumps, layout: dated-files, name: "{job}_{kind}_{yyyy}{MM}{dd}.sql", kinds: { full: F, incremental: I }, zone: Europe/London, settled-after: 5 minutes }
        policies: { few: { keep: newest 3 } }
        jobs:
          counts: { watched: yes, heard-by: folder, leaves-copy-in: dumps, early: 2 hours, policy: few, prune: after-success, fresh-within: 2 days, when: "daily at 23:00" }
        """;

    [Fact]
    public void What_a_charter_says_of_dated_files_is_written_as_it_is_read()
    {
        var charter = CharterYaml.Read(Charter).Charter!;
        var written = CharterWriter.Write(charter);
        Assert.Equal(charter.Stores["dumps"], CharterYaml.Read(written).Charter!.Stores["dumps"]);
        Assert.Equal(charter.Jobs["counts"], CharterYaml.Read(written).Charter!.Jobs["counts"]);
        Assert.Equal(["Full F", "Incremental I"], charter.Stores["dumps"].Dated!.Name.Kinds.Select(k => $"{k.Kind} {k.Word}"));
        Assert.Equal(Duration.FromMinutes(30 + 5 + 2), charter.HeardWithin(charter.Jobs["counts"]));
    }

    [Theory]
    [InlineData("layout: dated-files, name", "name", "'name' goes with 'layout: dated-files'")]
    [InlineData("layout: dated-files", "layout: heaped", "'heaped' is not a layout")]
    [InlineData("settled-after: 5 minutes", "key-file: /etc/k", "'key-file' does not go with dated files")]
    [InlineData("incremental: I", "incremental: F", "stands twice")]
    [InlineData(
        "folder: /srv/dumps",
        "folder: \"sftp://a@b/c\", host-key: \"SHA256:MDEyMzQ1Njc4OTAxMjM0NTY3ODkwMTIzNDU2Nzg5MDE\", login-key: /k",
        "in a folder of this machine"
    )]
    [InlineData("leaves-copy-in: dumps, early: 2 hours, policy: few", "policy: few", "'policy' needs copies")]
    [InlineData(
        "heard-by: folder, leaves-copy-in: dumps, early: 2 hours, policy: few, prune: after-success, fresh-within: 2 days",
        "heard-by: folder",
        "'heard-by: folder' needs the folder"
    )]
    [InlineData(
        "watched: yes, heard-by: folder, leaves-copy-in: dumps, early: 2 hours",
        "takes: /srv/a, into: dumps",
        "holds dated files that something else writes"
    )]
    [InlineData("policy: few,", "", "'policy' is missing")]
    [InlineData("{job}_", "", "its names do not tell whose a file is")]
    public void What_does_not_go_together_is_a_mistake_with_the_way_out(string from, string to, string words)
    {
        var text =
            Charter.Replace(from, to, StringComparison.Ordinal)
            + "\n  more: { watched: yes, leaves-copy-in: dumps, policy: few, when: \"daily at 23:00\" }\n";
        var reading = CharterYaml.Read(text);
        Assert.Null(reading.Charter);
        Assert.Contains(words, string.Join('\n', reading.Mistakes.Select(m => m.Message)));
    }
}
