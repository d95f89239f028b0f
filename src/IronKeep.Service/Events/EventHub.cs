using System.Collections.Concurrent;
using System.Runtime.CompilerServices;
using System.Threading.Channels;
using IronKeep.Contracts;

namespace IronKeep.Service.Events;

/// <summary>Carries what happens to everybody who listens. A slow listener loses the oldest events, never holds up the service.</summary>
public sealed class EventHub
{
    private readonly ConcurrentDictionary<Channel<KeepEvent>, byte> listeners = new();

    public void Publish(string topic, RunAnswer? run = null)
    {
        var happened = new KeepEvent(topic, run);
        foreach (var listener in listeners.Keys) listener.Writer.TryWrite(happened);
    }

    public async IAsyncEnumerable<KeepEvent> Listen([EnumeratorCancellation] CancellationToken cancel)
    {
        var channel = Channel.CreateBounded<KeepEvent>(new BoundedChannelOptions(256) { FullMode = BoundedChannelFullMode.DropOldest });
        listeners.TryAdd(channel, 0);
        try
        {
            // Something at once, so that the client knows that the stream stands.
            yield return new KeepEvent("hello", null);
            await foreach (var happened in channel.Reader.ReadAllAsync(cancel)) yield return happened;
        }
        finally
        {
            listeners.TryRemove(channel, out _);
        }
    }
}
