namespace IronKeep.Service.Machines;

/// <summary>
/// Keeps whoever likes from taking the places of machines at the agents' address. A connection is a stranger's until a machine that may
/// speak has asked something with it. When an address, all strangers together, or one machine have more than their share, their oldest
/// connection makes room for the new one: a machine is known within a moment, and who only holds a place has held it longest.
/// </summary>
public sealed class ConnectionGate
{
    /// <summary>A site of many machines can be behind one address; they come back all at once after the service was away.</summary>
    public const int MostOfAddress = 500,
        MostStrangers = 2000,
        MostOfMachine = 200;
    private readonly Lock door = new();

    // In order of when they came, the oldest first.
    private readonly LinkedList<Place> strangers = new();
    private readonly Dictionary<string, LinkedList<Place>> addresses = [],
        machines = [];

    /// <summary>A connection's place, from when it comes to when it has gone.</summary>
    public sealed class Place(string address, Action abort)
    {
        internal string Address => address;
        internal Action Abort => abort;

        /// <summary>The print of the key that the connection was made with, once a request has asked for it.</summary>
        internal byte[]? Print { get; set; }
        internal string? Machine { get; set; }
        internal LinkedListNode<Place>? OfAll { get; set; }
        internal LinkedListNode<Place>? OfGroup { get; set; }
    }

    /// <summary>How many connections no machine has asked anything with.</summary>
    public int Strangers
    {
        get
        {
            lock (door)
                return strangers.Count;
        }
    }

    /// <summary>A connection comes from an address; <paramref name="abort"/> ends it, and may be called from any thread.</summary>
    public Place Enter(string address, Action abort)
    {
        var place = new Place(address, abort);
        Place? leaves;
        lock (door)
        {
            var group = GroupOf(addresses, address);
            place.OfGroup = group.AddLast(place);
            place.OfAll = strangers.AddLast(place);
            leaves =
                group.Count > MostOfAddress ? Take(group.First!.Value)
                : strangers.Count > MostStrangers ? Take(strangers.First!.Value)
                : null;
        }
        leaves?.Abort();
        return place;
    }

    /// <summary>A machine that may speak has asked something with it.</summary>
    public void Prove(Place place, string machine)
    {
        if (place.Machine == machine)
            return;
        Place? leaves = null;
        lock (door)
        {
            // It was told to go at this very moment.
            if (place.OfGroup is null)
                return;
            Take(place);
            place.Machine = machine;
            var group = GroupOf(machines, machine);
            place.OfGroup = group.AddLast(place);
            if (group.Count > MostOfMachine)
                leaves = Take(group.First!.Value);
        }
        leaves?.Abort();
    }

    /// <summary>It has gone.</summary>
    public void Leave(Place place)
    {
        lock (door)
            Take(place);
    }

    private Place Take(Place place)
    {
        if (place.OfAll is { List: not null } ofAll)
            strangers.Remove(ofAll);
        if (place.OfGroup is { List: { } places } ofGroup)
        {
            places.Remove(ofGroup);
            var (of, name) = place.Machine is { } machine ? (machines, machine) : (addresses, place.Address);
            if (places.Count == 0)
                of.Remove(name);
        }
        (place.OfAll, place.OfGroup) = (null, null);
        return place;
    }

    private static LinkedList<Place> GroupOf(Dictionary<string, LinkedList<Place>> all, string name) =>
        all.TryGetValue(name, out var group) ? group : all[name] = new();
}
