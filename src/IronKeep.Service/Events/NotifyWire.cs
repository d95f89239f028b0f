using System.Globalization;
using System.Threading.Channels;
using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Quantities;
using IronKeep.Service.Basics;
using IronKeep.Service.Workers;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.Options;
using Npgsql;

namespace IronKeep.Service.Events;

/// <summary>What a part of the service does when another service says that something of a topic has happened.</summary>
public interface IWireListener
{
    Task HeardAsync(EventKey key, CancellationToken cancel);
}

/// <summary>
/// Tells the services on one PostgreSQL of each other's events by its notifications, which carry keys and no content. Nothing rests on one
/// that is lost:
/// each service looks by itself as well, and after a broken connection its pages are told to read anew.
/// </summary>
public sealed class NotifyWire(IOptions<ServiceSettings> settings, WorkerSelf self, IServiceProvider services, ILogger<NotifyWire> log)
    : BackgroundService,
        IEventWire
{
    private const string ChannelName = "ironkeep";
    private static readonly TimeSpan TriesAgainAfter = TimeSpan.FromSeconds(1);
    private readonly Channel<EventKey> waiting = Channel.CreateBounded<EventKey>(
        new BoundedChannelOptions(1000) { FullMode = BoundedChannelFullMode.DropOldest }
    );

    public void Send(EventKey key) => waiting.Writer.TryWrite(key);

    protected override Task ExecuteAsync(CancellationToken stoppingToken) =>
        Task.WhenAll(SayAsync(stoppingToken), HearAsync(stoppingToken));

    private Task SayAsync(CancellationToken stopping) =>
        LoopAsync(
            async connection =>
            {
                while (await waiting.Reader.WaitToReadAsync(stopping))
                {
                    var keys = new HashSet<EventKey>();
                    while (keys.Count < 100 && waiting.Reader.TryRead(out var key))
                        keys.Add(key);
                    await using var batch = new NpgsqlBatch(connection);
                    foreach (var key in keys)
                    {
                        var say = new NpgsqlBatchCommand("SELECT pg_notify($1, $2)");
                        say.Parameters.Add(new NpgsqlParameter { Value = ChannelName });
                        say.Parameters.Add(
                            new NpgsqlParameter
                            {
                                Value = string.Create(
                                    CultureInfo.InvariantCulture,
                                    $"{self.Id} {(key.Topic is { } topic ? Kebab.Of(topic) : "orders")} {key.Id}"
                                ),
                            }
                        );
                        batch.BatchCommands.Add(say);
                    }
                    await batch.ExecuteNonQueryAsync(stopping);
                }
            },
            stopping
        );

    private Task HearAsync(CancellationToken stopping)
    {
        var first = true;
        return LoopAsync(
            async connection =>
            {
                var heard = Channel.CreateUnbounded<string>();
                connection.Notification += (_, e) => heard.Writer.TryWrite(e.Payload);
                await using (var listen = new NpgsqlCommand($"LISTEN {ChannelName}", connection))
                    await listen.ExecuteNonQueryAsync(stopping);
                // What was said meanwhile is not known: everybody reads anew.
                if (!first)
                    services.GetRequiredService<EventHub>().Here(new KeepEvent(Topic.Hello, null));
                first = false;
                while (true)
                {
                    await connection.WaitAsync(stopping);
                    while (heard.Reader.TryRead(out var payload))
                        await HeardAsync(payload, stopping);
                }
            },
            stopping
        );
    }

    private async Task HeardAsync(string payload, CancellationToken stopping)
    {
        if (payload.Split(' ') is not [var from, var topic, var id] || from == self.Id)
            return;
        var key = new EventKey(
            Kebab.Read<Topic>(topic),
            long.TryParse(id, NumberStyles.None, CultureInfo.InvariantCulture, out var number) ? number : null
        );
        try
        {
            foreach (var listener in services.GetServices<IWireListener>())
                await listener.HeardAsync(key, stopping);
        }
        catch (Exception e) when (!stopping.IsCancellationRequested)
        {
            log.LogWarning("What another service said of {Topic} could not be followed: {Problem}", topic, e.Message);
        }
    }

    private async Task LoopAsync(Func<NpgsqlConnection, Task> work, CancellationToken stopping)
    {
        while (!stopping.IsCancellationRequested)
        {
            try
            {
                await using var connection = new NpgsqlConnection(
                    CatalogueKinds.ConnectionString(settings.Value.CatalogueAt, pooled: false)
                );
                await connection.OpenAsync(stopping);
                await work(connection);
            }
            catch (Exception e) when (!stopping.IsCancellationRequested)
            {
                log.LogWarning("The wire to the other services broke and is taken up again: {Problem}", e.Message);
            }
            await Task.Delay(TriesAgainAfter, stopping).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        }
    }
}

/// <summary>Tells the pages that are open here what happened in another service.</summary>
public sealed class HubListener(EventHub hub, IDbContextFactory<KeepContext> catalogue) : IWireListener
{
    public async Task HeardAsync(EventKey key, CancellationToken cancel)
    {
        if (!hub.IsHeard)
            return;
        if (key.Topic is Topic.Alert or Topic.Copies or Topic.Charter)
            hub.Here(new KeepEvent(key.Topic.Value, null));
        if (key is not { Topic: Topic.Run, Id: { } id })
            return;
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        if (await db.Runs.AsNoTracking().FirstOrDefaultAsync(r => r.Id == id, cancel) is { } run)
            hub.Here(run);
    }
}
