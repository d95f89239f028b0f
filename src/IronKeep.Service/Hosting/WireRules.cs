using IronKeep.Service.Charters;
using IronKeep.Service.Events;
using IronKeep.Service.Facts;
using IronKeep.Service.Runs;

namespace IronKeep.Service.Hosting;

/// <summary>What the parts of this service do at once when another says that something has happened; each would find it by itself a moment later.</summary>
internal sealed class WireRules(CharterInForce charter, Dispatch dispatch, RunQueue queue, FactSignal facts) : IWireListener
{
    public async Task HeardAsync(EventKey key, CancellationToken cancel)
    {
        switch (key.Topic)
        {
            case "charter":
                await charter.LoadAsync(cancel);
                break;
            case "orders":
                await dispatch.LookAsync(cancel);
                break;
            case "run":
                queue.Wake();
                facts.Wake();
                break;
            default:
                facts.Wake();
                break;
        }
    }
}
