using System.Net.Sockets;
using IronKeep.Service.Machines;
using Microsoft.Extensions.DependencyInjection;

namespace IronKeep.Service.Tests;

/// <summary>Who holds places at the agents' address, and who makes room.</summary>
public sealed class ConnectionGateTests
{
    private readonly ConnectionGate gate = new();
    private readonly List<int> gone = [];

    private ConnectionGate.Place Enter(int number, string address = "192.0.2.1") => gate.Enter(address, () => gone.Add(number));

    [Fact]
    public void The_oldest_stranger_of_an_address_makes_room_and_others_keep_theirs()
    {
        var other = Enter(-1, "192.0.2.2");
        var places = Enumerable.Range(0, ConnectionGate.MostOfAddress).Select(n => Enter(n)).ToList();
        Assert.Empty(gone);
        gate.Prove(places[0], "curlew");
        Enter(1000);
        // A machine is no stranger, so there was room.
        Assert.Empty(gone);
        Enter(1001);
        Enter(1002);
        Assert.Equal([1, 2], gone);
        gate.Leave(places[3]);
        Enter(1003);
        Assert.Equal([1, 2], gone);
        // Whoever was told to go can say nothing that would bring him back.
        gate.Prove(places[1], "curlew");
        gate.Leave(places[1]);
        gate.Leave(places[1]);
        Assert.Equal(ConnectionGate.MostOfAddress + 1, gate.Strangers);
        gate.Leave(other);
        Assert.Equal(ConnectionGate.MostOfAddress, gate.Strangers);
    }

    [Fact]
    public void Strangers_of_many_addresses_have_a_share_together()
    {
        var machine = Enter(-1, "192.0.2.7");
        gate.Prove(machine, "curlew");
        for (var n = 0; n < ConnectionGate.MostStrangers; n++)
            Enter(n, $"2001:db8::{n:x}");
        Assert.Empty(gone);
        Enter(5000, "2001:db8::ffff");
        Assert.Equal([0], gone);
        Assert.Equal(ConnectionGate.MostStrangers, gate.Strangers);
    }

    [Fact]
    public void A_machine_that_opens_without_end_loses_its_own_oldest()
    {
        var plover = Enter(-1);
        gate.Prove(plover, "plover");
        for (var n = 0; n < ConnectionGate.MostOfMachine; n++)
            gate.Prove(Enter(n), "curlew");
        Assert.Empty(gone);
        var more = Enter(1000);
        gate.Prove(more, "curlew");
        gate.Prove(more, "curlew");
        Assert.Equal([0], gone);
        Assert.Equal(0, gate.Strangers);
    }

    /// <summary>Thousands of connections that only hold a place keep no machine out, and leave nothing behind.</summary>
    [Fact]
    public async Task A_machine_gets_in_past_thousands_of_strangers()
    {
        await using var bench = await MachineTests.StartAsync();
        using var curlew = await TestAgent.JoinedAsync(bench, "curlew");
        var address = new Uri(bench.Services.GetRequiredService<AgentListening>().Address!);
        var strangers = new List<TcpClient>();
        try
        {
            for (var n = 0; n < 10_000; n++)
            {
                var stranger = new TcpClient();
                await stranger.ConnectAsync(address.Host, address.Port);
                strangers.Add(stranger);
            }
            using var late = new TestAgent(bench, curlew.Key);
            Assert.Equal("curlew", (await late.HelloAsync()).Machine);
            Assert.Equal("curlew", (await curlew.HelloAsync()).Machine);
            var live = bench.Services.GetRequiredService<ConnectionGate>();
            Assert.InRange(live.Strangers, 1, ConnectionGate.MostOfAddress);
        }
        finally
        {
            strangers.ForEach(s => s.Dispose());
        }
        for (var tries = 0; bench.Services.GetRequiredService<ConnectionGate>().Strangers > 0; tries++)
        {
            Assert.True(tries < 600, "their places are held on to");
            await Task.Delay(50);
        }
    }
}
