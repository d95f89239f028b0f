using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Service.Charters;
using IronKeep.Service.Events;
using IronKeep.Service.Facts;
using IronKeep.Service.Runs;

namespace IronKeep.Service.Hosting;

/// <summary>
/// What the parts of this service do at once when another says that something has happened; each would find it by itself a moment later.
/// </summary>
internal sealed class WireRules(CharterInForce charter, Dispatch dispatch, RunQueue queue, FactSignal facts) : IWireListener
{
    public async Task HeardAsync(EventKey key, CancellationToken cancel)
    {
        switch (key.Topic)
        {
            case Topic.Charter:
                await charter.LoadAsync(cancel);
                break;
            case null:
                await dispatch.LookAsync(cancel);
                break;
            case Topic.Run:
                queue.Wake();
                facts.Wake();
                break;
            default:
                facts.Wake();
                break;
        }
    }
}
