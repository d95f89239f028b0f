using IronKeep.Agent;
using IronKeep.Core.Machines;
using IronKeep.Runs.Steps;
using IronKeep.Runs.Surroundings;

namespace IronKeep.Fleet;

/// <summary>
/// One machine of the fleet: the agent itself with a folder, a key and data of its own, switched off and on as the machine's temper wants.
/// </summary>
internal sealed class FleetMachine(string folder, string name, FleetWishes wishes, MachineStanding standing) : IDisposable
{
    private static readonly TimeSpan AfterRefusal = TimeSpan.FromSeconds(30);
    private readonly AgentHome home = new(Path.Combine(folder, "agents", name));
    private readonly Temper temper = Temper.Of(name, wishes);

    public async Task JoinAsync(string address, JoinCode code, CancellationToken cancel)
    {
        home.Make();
        using var key = home.Key();
        using var line = new ServiceLine(address, code.ServicePrint.ToArray(), key);
        var answer = await line.JoinAsync(code, cancel);
        home.Save(
            new Joined(address, Convert.ToHexStringLower(code.ServicePrint.Span), answer.Machine, answer.Service, DateTimeOffset.UtcNow)
        );
    }

    /// <summary>Works until it is stopped.</summary>
    public async Task WorkAsync(CancellationToken cancel)
    {
        if (wishes.AliveOnly)
        {
            await SayAliveAsync(cancel);
            return;
        }
        var data = new FleetData(Path.Combine(folder, "data", name), name, temper, wishes.Seed);
        data.Make();
        var random = Temper.Random(name, wishes.Seed, -1);
        for (var cycle = 0; !cancel.IsCancellationRequested; cycle++)
        {
            // Where in the cycle it goes away or loses its data, and for how long, is another each time.
            var (at, lasts) = (random.NextDouble() / 2, 0.1 + random.NextDouble() * 0.4);
            data.Change(cycle);
            await OnAsync(wishes.Cycle * at, cancel);
            if (temper.Failing)
                data.PutAside();
            if (temper.OftenAway)
                await PauseAsync(wishes.Cycle * lasts, cancel);
            else
                await OnAsync(wishes.Cycle * lasts, cancel);
            data.Return();
            await OnAsync(wishes.Cycle * (1 - at - lasts), cancel);
        }
    }

    private ServiceLine? line;
    private Task? work;
    private CancellationTokenSource? off;
    private System.Security.Cryptography.ECDsa? key;

    /// <summary>It is on for so long; what it does goes on from one such time to the next.</summary>
    private async Task OnAsync(TimeSpan time, CancellationToken cancel)
    {
        if (work is null)
        {
            var joined = home.Joined()
                ?? throw new AgentException(Root.Refused, $"{name} has not joined; give 'ironkeep-fleet join' first");
            off = new CancellationTokenSource();
            line = new ServiceLine(
                joined.Address,
                Convert.FromHexString(joined.ServicePrint),
                key = home.Key(),
                standing,
                temper.BytesPerSecond is { } speed ? inner => new SlowWay(inner, speed) : null
            );
            work = new Work(
                home,
                line,
                new AllowedFile(Path.Combine(home.Folder, "agent.yaml")),
                standing,
                TimeSpan.FromMinutes(2),
                Path.Combine(home.Folder, "left-reports"),
                TextWriter.Null
            ).RunAsync(off.Token);
        }
        await Task.WhenAny(Task.Delay(time, cancel), work);
        if (cancel.IsCancellationRequested)
            await OffAsync();
    }

    private async Task PauseAsync(TimeSpan time, CancellationToken cancel)
    {
        await OffAsync();
        await Task.Delay(time, cancel).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
    }

    private async Task OffAsync()
    {
        if (work is null)
            return;
        await off!.CancelAsync();
        await work.ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        Dispose();
        work = null;
    }

    public void Dispose()
    {
        line?.Dispose();
        key?.Dispose();
        off?.Dispose();
    }

    /// <summary>Only that it is there, as often as an agent that has nothing to do says so.</summary>
    private async Task SayAliveAsync(CancellationToken cancel)
    {
        var joined = home.Joined() ?? throw new AgentException(Root.Refused, $"{name} has not joined; give 'ironkeep-fleet join' first");
        using var key = home.Key();
        using var alive = new ServiceLine(joined.Address, Convert.FromHexString(joined.ServicePrint), key, standing);
        while (!cancel.IsCancellationRequested)
            try
            {
                await alive.OrdersAsync(cancel);
            }
            catch (LineException)
            {
                await Task.Delay(AfterRefusal, cancel).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
            }
            catch (OperationCanceledException)
            {
                return;
            }
    }
}
