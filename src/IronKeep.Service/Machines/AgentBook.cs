using System.Security.Cryptography;
using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Machines;
using IronKeep.Service.Basics;
using IronKeep.Service.Charters;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace IronKeep.Service.Machines;

/// <summary>An agent, or whoever says that it is one, is refused; the message names the cause and the way out.</summary>
public sealed class AgentRefusedException(string message) : Exception(message);

/// <summary>
/// Who of the machines may speak: codes with which they join, the keys by which they are known, and who was shut out. Nothing of it is kept
/// in memory, so that what a person takes away is gone with the next request, at every service.
/// </summary>
public sealed class AgentBook(
    IDbContextFactory<KeepContext> catalogue,
    CharterInForce inForce,
    MachineStandings standings,
    TimeProvider clock,
    ILogger<AgentBook> log
)
{
    // Asked with each request of each agent, so it is made once.
    private readonly Func<KeepContext, byte[], CancellationToken, Task<Agent?>> byKey = EF.CompileAsyncQuery(
        (KeepContext db, byte[] keyPrint, CancellationToken cancel) => db.Agents.AsNoTracking().FirstOrDefault(a => a.KeyPrint == keyPrint)
    );

    /// <summary>How long a code is good for.</summary>
    public static readonly Duration CodeHolds = Duration.FromHours(1);

    /// <summary>A contact is written down when the last one that was is so long ago: a beat must not cost a write.</summary>
    private static readonly Duration NotedEvery = Duration.FromMinutes(1);

    /// <summary>One that is so long ago is written down at once, since somebody may wait for the machine; others together.</summary>
    private static readonly Duration NotedAtOnce = Duration.FromMinutes(2);
    private static readonly TimeSpan NotedTogetherAfter = TimeSpan.FromSeconds(5);
    private const int MostTogether = 500;
    private const int MostWords = 200;
    private readonly Lock contacting = new();
    private Dictionary<string, Agent> contacts = [];
    private long oldestContact;

    /// <summary>Makes the code of a machine; those made for it before are out of use.</summary>
    public async Task<(JoinCode Code, Instant Until, bool Replaces)> EnrolAsync(
        string machine,
        ReadOnlyMemory<byte> servicePrint,
        string by,
        CancellationToken cancel
    )
    {
        var code = JoinCode.New(servicePrint);
        var now = clock.Now();
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        await using var change = await db.BeginChangeAsync(cancel);
        await db.JoiningCodes.Where(c => (c.Machine == machine && c.UsedAt == null) || c.Until < now).ExecuteDeleteAsync(cancel);
        db.JoiningCodes.Add(
            new JoiningCode
            {
                Machine = machine,
                Hash = SHA256.HashData(code.Secret.Span),
                MadeBy = by,
                MadeAt = now,
                Until = now + CodeHolds,
            }
        );
        await db.SaveChangesAsync(cancel);
        var replaces = await db.Agents.AnyAsync(a => a.Machine == machine && a.ShutOutAt == null, cancel);
        await change.CommitAsync(cancel);
        log.LogInformation("{Person} made a code with which machine {Machine} may join", by, machine);
        return (code, now + CodeHolds, replaces);
    }

    /// <summary>
    /// Takes a machine in by its code, under the key it speaks with. Said again by the same key it is done already: the answer can have
    /// been lost on the way.
    /// </summary>
    public async Task<Agent> JoinAsync(byte[] secret, byte[] keyPrint, AgentSelf self, string address, CancellationToken cancel)
    {
        var hash = SHA256.HashData(secret);
        var now = clock.Now();
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        await using var change = await db.BeginChangeAsync(cancel);
        var code = await db.JoiningCodes.FirstOrDefaultAsync(c => c.Hash == hash, cancel);
        if (code is null || now > code.Until || now < code.MadeAt - CodeHolds)
            throw new AgentRefusedException(
                "this code is not good, or not any more: it holds for an hour, and a newer one for the same machine ends it; make another "
                    + "with 'ironkeep machine enrol'"
            );
        var agent = await db.Agents.FindAsync([code.Machine], cancel);
        if (code.UsedAt is not null)
            return agent is { ShutOutAt: null } && agent.KeyPrint.AsSpan().SequenceEqual(keyPrint)
                ? agent
                : throw new AgentRefusedException(
                    $"this code was used already, to let machine {code.Machine} join; if that was not you, shut the machine out with "
                        + $"'ironkeep machine shut-out {code.Machine}'. Make another code with 'ironkeep machine enrol'"
                );
        if (await db.Agents.FirstOrDefaultAsync(a => a.KeyPrint == keyPrint && a.Machine != code.Machine, cancel) is { } same)
        {
            (same.CameAs, same.CameAsAt) = (code.Machine, now);
            await db.SaveChangesAsync(cancel);
            await change.CommitAsync(cancel);
            log.LogWarning("A machine with the key of {Machine} wants to join as {Name}", same.Machine, code.Machine);
            throw new AgentRefusedException(
                $"this key is that of machine {same.Machine}, and a machine has one name. If it is {same.Machine} under another name, say "
                    + $"so with 'ironkeep machine came-back {same.Machine} --renamed', and join again. A disk that was cloned needs a key "
                    + "of its own: remove the agent's folder on it and join again"
            );
        }
        if (agent is null)
            db.Agents.Add(
                agent = new Agent
                {
                    Machine = code.Machine,
                    KeyPrint = keyPrint,
                    EnrolledBy = code.MadeBy,
                    Version = "",
                    System = "",
                }
            );
        (agent.KeyPrint, agent.EnrolledBy, agent.JoinedAt, agent.HeardAt) = (keyPrint, code.MadeBy, now, now);
        (agent.ShutOutAt, agent.ShutOutBy, agent.ShutOutWhy) = (null, null, null);
        Describe(agent, self, address, now);
        code.UsedAt = now;
        await db.SaveChangesAsync(cancel);
        await change.CommitAsync(cancel);
        standings.Heard(agent.Machine, self);
        log.LogInformation("Machine {Machine} joined from {Address}, enrolled by {Person}", agent.Machine, address, code.MadeBy);
        return agent;
    }

    /// <summary>Whose key it is. Throws <see cref="AgentRefusedException"/> for one that may not speak, or not any more.</summary>
    public async Task<Agent> OfAsync(byte[] keyPrint, CancellationToken cancel)
    {
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        var agent = await byKey(db, keyPrint, cancel)
            ?? throw new AgentRefusedException(
                "the service does not know this machine's key: it never joined, or another took its name since; join with a code from "
                    + "'ironkeep machine enrol'"
            );
        return StateOf(agent) switch
        {
            AgentState.ShutOut => throw new AgentRefusedException(
                $"machine {agent.Machine} was shut out; to let it in again, make a code with 'ironkeep machine enrol {agent.Machine}'"
            ),
            AgentState.Lapsed => throw new AgentRefusedException(
                $"machine {agent.Machine} was not heard of for {inForce.Charter.AgentLapses}, so its right ended; to let it in again, make "
                    + $"a code with 'ironkeep machine enrol {agent.Machine}'"
            ),
            _ => agent,
        };
    }

    /// <summary>
    /// Notes that an agent spoke, which renews its right. Thousands of them are written down together by the one that comes next, for each
    /// write of the catalogue is a wait for the disk.
    /// </summary>
    public async Task HeardAsync(Agent agent, AgentSelf self, string address)
    {
        var now = clock.Now();
        standings.Heard(agent.Machine, self);
        var known = (agent.Version, agent.System, agent.Address);
        var (heard, ahead) = (agent.HeardAt, agent.ClockAhead);
        Describe(agent, self, address, now);
        var isSame = known == (agent.Version, agent.System, agent.Address) && Math.Abs(ahead - agent.ClockAhead) < 1;
        if (isSame && heard <= now && now - heard < NotedEvery)
            return;
        agent.HeardAt = now;
        if (Together(agent, !isSame || heard > now || now - heard >= NotedAtOnce) is not { } all)
            return;
        try
        {
            // They are many agents' contacts, and go on when the one that came last hangs up meanwhile.
            await WriteAsync(all);
        }
        catch
        {
            PutBack(all);
            throw;
        }
    }

    /// <summary>The contacts that are to be written now, this one among them; null when that can wait for others.</summary>
    private Dictionary<string, Agent>? Together(Agent agent, bool atOnce)
    {
        lock (contacting)
        {
            if (contacts.Count == 0)
                oldestContact = clock.GetTimestamp();
            contacts[agent.Machine] = agent;
            if (!atOnce && contacts.Count < MostTogether && clock.GetElapsedTime(oldestContact) < NotedTogetherAfter)
                return null;
            var all = contacts;
            contacts = [];
            return all;
        }
    }

    private void PutBack(Dictionary<string, Agent> all)
    {
        lock (contacting)
        {
            if (contacts.Count == 0)
                oldestContact = clock.GetTimestamp();
            foreach (var (machine, agent) in all)
                contacts.TryAdd(machine, agent);
        }
    }

    private async Task WriteAsync(Dictionary<string, Agent> all)
    {
        await using var db = await catalogue.CreateDbContextAsync();
        await using var change = await db.BeginChangeAsync(CancellationToken.None);
        foreach (var agent in all.Values.OrderBy(a => a.Machine, StringComparer.Ordinal))
            // One that was shut out meanwhile, or whose name another took, is not brought back.
            await db
                .Agents.Where(a => a.Machine == agent.Machine && a.KeyPrint == agent.KeyPrint && a.ShutOutAt == null)
                .ExecuteUpdateAsync(s =>
                    s.SetProperty(a => a.HeardAt, agent.HeardAt)
                        .SetProperty(a => a.Version, agent.Version)
                        .SetProperty(a => a.System, agent.System)
                        .SetProperty(a => a.Address, agent.Address)
                        .SetProperty(a => a.ClockAhead, agent.ClockAhead)
                );
        await change.CommitAsync(CancellationToken.None);
    }

    /// <summary>
    /// A person has said of a machine that came back under another name what it is: the same, which is called so from now on, or another.
    /// False when nobody is to be asked about it.
    /// </summary>
    public async Task<bool> CameBackAsync(string machine, bool renamed, string by, CancellationToken cancel)
    {
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        await using var change = await db.BeginChangeAsync(cancel);
        if (await db.Agents.FindAsync([machine], cancel) is not { CameAs: { } name } agent)
            return false;
        (agent.CameAs, agent.CameAsAt) = (null, null);
        if (renamed)
        {
            db.Agents.Remove(agent);
            // Whoever had the name before has it no more, as when another joins under it.
            if (await db.Agents.FindAsync([name], cancel) is { } before)
                db.Agents.Remove(before);
            await db.SaveChangesAsync(cancel);
            db.Agents.Add(
                new Agent
                {
                    Machine = name,
                    KeyPrint = agent.KeyPrint,
                    EnrolledBy = by,
                    Version = agent.Version,
                    System = agent.System,
                    Address = agent.Address,
                    JoinedAt = agent.JoinedAt,
                    HeardAt = agent.HeardAt,
                    ClockAhead = agent.ClockAhead,
                    ShutOutAt = agent.ShutOutAt,
                    ShutOutBy = agent.ShutOutBy,
                    ShutOutWhy = agent.ShutOutWhy,
                }
            );
        }
        await db.SaveChangesAsync(cancel);
        await change.CommitAsync(cancel);
        log.LogInformation("{Person} said that {Name} is {What} {Machine}", by, name, renamed ? "a new name of" : "not", machine);
        return true;
    }

    /// <summary>Takes a machine's right away, and its codes with it; false when it has neither.</summary>
    public async Task<bool> ShutOutAsync(string machine, string by, string why, CancellationToken cancel)
    {
        var now = clock.Now();
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        await using var change = await db.BeginChangeAsync(cancel);
        var codes = await db.JoiningCodes.Where(c => c.Machine == machine && c.UsedAt == null).ExecuteDeleteAsync(cancel);
        var agents = await db
            .Agents.Where(a => a.Machine == machine && a.ShutOutAt == null)
            .ExecuteUpdateAsync(
                s => s.SetProperty(a => a.ShutOutAt, now).SetProperty(a => a.ShutOutBy, by).SetProperty(a => a.ShutOutWhy, why),
                cancel
            );
        await change.CommitAsync(cancel);
        if (codes + agents > 0)
            log.LogWarning("{Person} shut machine {Machine} out: {Reason}", by, machine, why);
        return codes + agents > 0;
    }

    /// <summary>The machines whose agents may speak.</summary>
    public async Task<IReadOnlyList<string>> JoinedAsync(CancellationToken cancel)
    {
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        var all = await db.Agents.AsNoTracking().Where(a => a.ShutOutAt == null).ToListAsync(cancel);
        return [.. all.Where(a => StateOf(a) == AgentState.Joined).Select(a => a.Machine)];
    }

    public AgentState StateOf(Agent agent) => AgentRight.StateOf(agent.HeardAt, agent.ShutOutAt, inForce.Charter.AgentLapses, clock.Now());

    /// <summary>Whether it may speak, and was heard of at no service for so long that it is not there.</summary>
    public bool IsAway(Agent agent) =>
        StateOf(agent) == AgentState.Joined
        && !standings.IsHere(agent.Machine)
        && clock.Now() - agent.HeardAt > Duration.FromTimeSpan(MachineStandings.AwayAfter);

    public DateTimeOffset RightUntil(Agent agent) => AgentRight.EndOf(agent.HeardAt, inForce.Charter.AgentLapses).ToDateTimeOffset();

    private static void Describe(Agent agent, AgentSelf self, string address, Instant now)
    {
        (agent.Version, agent.System, agent.Address) = (
            StrangersWords.OneLine(self.Version, MostWords),
            StrangersWords.OneLine(self.System, MostWords),
            address
        );
        agent.ClockAhead = Math.Round((Instant.FromDateTimeOffset(self.Time) - now).TotalSeconds, 1);
    }
}
