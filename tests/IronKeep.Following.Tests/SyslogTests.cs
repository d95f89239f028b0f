using System.Text;
using IronKeep.Following.Syslog;

namespace IronKeep.Following.Tests;

/// <summary>Messages of syslog in both forms, and how a stream is taken apart.</summary>
public sealed class SyslogTests
{
    [Theory]
    // The examples of RFC 5424, section 6.5, with names of our own.
    [InlineData(
        "<34>1 2026-10-11T22:14:15.003Z avocet.saltmere.example tide-copy - ID47 - \uFEFFall sent",
        "avocet.saltmere.example",
        "tide-copy",
        "all sent"
    )]
    [InlineData(
        "<165>1 2026-08-24T05:14:15.000003-07:00 192.0.2.1 tide-copy 8710 - - %% all sent.",
        "192.0.2.1",
        "tide-copy",
        "%% all sent."
    )]
    [InlineData(
        "<165>1 2026-10-11T22:14:15.003Z avocet tide-copy - ID47 [a@1 x=\"3\" y=\"a \\\"]\\\" b\"][b@1 z=\"\"] all sent",
        "avocet",
        "tide-copy",
        "all sent"
    )]
    [InlineData("<165>1 - - tide-copy - - -", null, "tide-copy", "")]
    [InlineData("<165>1 - avocet - - - - x", null, null, null)]
    [InlineData("<165>1 - avocet tide-copy - - [broken x=\"", null, null, null)]
    [InlineData("<34>Oct 11 22:14:15 avocet tide-copy[230]: all sent", "avocet", "tide-copy", "all sent")]
    [InlineData("<34>Oct  1 22:14:15 tide-copy: all sent", null, "tide-copy", "all sent")]
    [InlineData("<13>tide-copy[9]: all sent\n", null, "tide-copy", "all sent")]
    [InlineData("tide-copy: two\r\nlines\0", null, "tide-copy", "two  lines")]
    [InlineData("<999>tide-copy: x", null, null, null)]
    [InlineData("<>x", null, null, null)]
    [InlineData("", null, null, null)]
    public void A_message_is_read_in_either_form(string text, string? host, string? app, string? said)
    {
        var read = SyslogMessage.Read(Encoding.UTF8.GetBytes(text));
        if (app is null)
            Assert.Null(read);
        else
            Assert.Equal((host, app, said), (read!.Host, read.App, read.Text));
    }

    [Fact]
    public void A_stream_is_taken_apart_the_same_however_it_arrives()
    {
        string[] said =
        [
            "<13>1 - h a - - - one",
            "<13>a: two",
            "<13>1 - h a - - - three\nwith a line of its own",
            "7 of 9 sent",
            "<13>a: four",
        ];
        var counted = said.Select((s, i) => i is 0 or 2 ? $"{Encoding.UTF8.GetByteCount(s)} {s}" : s + "\n");
        var stream = Encoding.UTF8.GetBytes(string.Concat(counted) + "<13>a: last");
        for (var piece = 1; piece < stream.Length; piece++)
        {
            var frames = new SyslogFrames();
            var found = new List<string>();
            foreach (var part in stream.Chunk(piece))
                found.AddRange(frames.Feed(part)!.Select(Encoding.UTF8.GetString));
            Assert.Equal(said, found);
            Assert.Equal("<13>a: last", Encoding.UTF8.GetString(frames.Finish()!));
        }
    }

    [Fact]
    public void A_line_without_end_is_cut_and_its_rest_skipped_and_a_frame_that_is_too_long_ends_the_stream()
    {
        var frames = new SyslogFrames();
        var found = new List<byte[]>();
        for (var i = 0; i < 100; i++)
            found.AddRange(frames.Feed(Encoding.ASCII.GetBytes(new string('x', 10_000)))!);
        Assert.InRange(Assert.Single(found).Length, SyslogMessage.MostBytes, SyslogMessage.MostBytes + 10_000);
        Assert.Equal("after", Encoding.ASCII.GetString(Assert.Single(frames.Feed("rest\nafter\n"u8)!)));
        Assert.Null(new SyslogFrames().Feed("9999999 <13>a: x"u8));
    }

    [Fact]
    public void Whatever_is_sent_nothing_breaks()
    {
        var random = new Random(3);
        byte[][] pieces =
        [
            "<13>"u8.ToArray(),
            "1 "u8.ToArray(),
            "- "u8.ToArray(),
            "["u8.ToArray(),
            "\""u8.ToArray(),
            "]"u8.ToArray(),
            "Oct 11 22:14:15 "u8.ToArray(),
            "a[1]: "u8.ToArray(),
            "\n"u8.ToArray(),
            [0xFF, 0xC3],
            "12 "u8.ToArray(),
            [0],
        ];
        for (var i = 0; i < 20_000; i++)
        {
            byte[] sent = [.. Enumerable.Range(0, random.Next(12)).SelectMany(_ => pieces[random.Next(pieces.Length)])];
            _ = SyslogMessage.Read(sent);
            foreach (var message in new SyslogFrames().Feed(sent) ?? [])
                Assert.DoesNotContain('\n', SyslogMessage.Read(message)?.Text ?? "");
        }
    }
}
