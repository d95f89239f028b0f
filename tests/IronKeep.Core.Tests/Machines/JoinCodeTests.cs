using IronKeep.Core.Machines;
using IronKeep.Core.Quantities;
using NodaTime;

namespace IronKeep.Core.Tests.Machines;

public sealed class JoinCodeTests
{
    private static readonly byte[] Print = [.. Enumerable.Range(1, KeyPrint.Size).Select(i => (byte)i)];

    [Fact]
    public void A_code_comes_back_whole_and_no_two_are_alike()
    {
        var code = JoinCode.New(Print);
        Assert.True(JoinCode.TryParse(code.ToString(), out var back, out _));
        Assert.Equal(code, back);
        Assert.Equal(Print, back.ServicePrint.ToArray());
        Assert.Equal(JoinCode.SecretSize, back.Secret.Length);
        Assert.NotEqual(code.ToString(), JoinCode.New(Print).ToString());
    }

    /// <summary>
    /// One letter changed, lost or doubled anywhere, or a piece of it: noticed before anything is sent (but for one in 65,536).
    /// </summary>
    [Fact]
    public void What_was_not_copied_whole_is_noticed()
    {
        var text = new JoinCode(Print.AsMemory(0, JoinCode.SecretSize), Print).ToString();
        for (var i = 0; i < text.Length; i++)
        {
            No(text[..i] + (text[i] == 'x' ? 'y' : 'x') + text[(i + 1)..]);
            No(text.Remove(i, 1));
            No(text.Insert(i, text[i..(i + 1)]));
        }
        foreach (var bad in (string[])["", "join.", text[..20], text + text, text.ToUpperInvariant(), " " + text, "join.😀"])
            No(bad);
        static void No(string bad)
        {
            Assert.False(JoinCode.TryParse(bad, out _, out var problem), bad);
            Assert.Contains("copy the whole command", problem);
        }
    }

    [Theory]
    [InlineData(0, AgentState.Joined)]
    [InlineData(48, AgentState.Joined)]
    [InlineData(48.001, AgentState.Lapsed)]
    [InlineData(-9000, AgentState.Joined)]
    public void A_right_holds_to_the_end_of_its_span(double hours, AgentState state)
    {
        var heard = Instant.FromUtc(2026, 11, 1, 12, 0);
        Assert.Equal(state, AgentRight.StateOf(heard, null, new Span(2, SpanUnit.Days), heard + Duration.FromHours(hours)));
        Assert.Equal(AgentState.ShutOut, AgentRight.StateOf(heard, heard, new Span(2, SpanUnit.Days), heard + Duration.FromHours(hours)));
        // The longest span that can be written leads no instant out of the calendar.
        Assert.True(AgentRight.EndOf(heard, new Span(Span.LargestCount, SpanUnit.Years)) > heard);
    }
}
