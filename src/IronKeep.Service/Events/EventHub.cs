using System.Collections.Concurrent;
using System.Runtime.CompilerServices;
using System.Threading.Channels;
using IronKeep.Catalogue;
using IronKeep.Contracts;

namespace IronKeep.Service.Events;

/// <summary>
/// Something that happened, as services tell each other of it: a topic (null: orders to look at) and the number of its subject, never its
/// content.
/// </summary>
public readonly record struct EventKey(Topic? Topic, long? Id);

/// <summary>Tells the other services on the catalogue what happened here. Where there are none, nobody.</summary>
public interface IEventWire
{
    void Send(EventKey key);
}

/// <summary>For a service that is alone on its catalogue.</summary>
public sealed class NoWire : IEventWire
{
    public void Send(EventKey key)
    {
        // There is nobody to tell.
    }
}

/// <summary>
/// Carries what happens to everybody who listens, here and in the other services. A slow listener loses the oldest events, never holds up
/// the service.
/// </summary>
public sealed class EventHub(IEventWire wire)
{
    private readonly ConcurrentDictionary<Channel<KeepEvent>, byte> listeners = new();

    /// <summary>How a run is told, with its figures where it is at work here.</summary>
    public Func<Run, RunAnswer>? Describe { get; set; }

    /// <summary>Something of the topic has changed.</summary>
    public void Publish(Topic topic)
    {
        Here(new KeepEvent(topic, null));
        wire.Send(new EventKey(topic, null));
    }

    /// <summary>Another service has to look at what it is asked.</summary>
    public void Order() => wire.Send(new EventKey(null, null));

    /// <summary>A run has changed.</summary>
    public void Publish(Run run)
    {
        Here(run);
        wire.Send(new EventKey(Topic.Run, run.Id));
    }

    /// <summary>Tells those who listen here of a run.</summary>
    public void Here(Run run)
    {
        if (!listeners.IsEmpty)
            Here(new KeepEvent(Topic.Run, Describe?.Invoke(run)));
    }

    /// <summary>Tells those who listen here.</summary>
    public void Here(KeepEvent happened)
    {
        foreach (var listener in listeners.Keys)
            listener.Writer.TryWrite(happened);
    }

    /// <summary>Whether anybody listens here.</summary>
    public bool IsHeard => !listeners.IsEmpty;

    public async IAsyncEnumerable<KeepEvent> Listen([EnumeratorCancellation] CancellationToken cancel)
    {
        var channel = Channel.CreateBounded<KeepEvent>(new BoundedChannelOptions(256) { FullMode = BoundedChannelFullMode.DropOldest });
        listeners.TryAdd(channel, 0);
        try
        {
            // Something at once, so that the client knows that the stream stands.
            yield return new KeepEvent(Topic.Hello, null);
            await foreach (var happened in channel.Reader.ReadAllAsync(cancel))
                yield return happened;
        }
        finally
        {
            listeners.TryRemove(channel, out _);
        }
    }
}
