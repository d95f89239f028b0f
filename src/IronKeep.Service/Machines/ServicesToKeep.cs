using IronKeep.Core.Charters;
using IronKeep.Runs.Steps;
using IronKeep.Service.Basics;
using IronKeep.Service.Charters;
using Microsoft.Extensions.Options;

namespace IronKeep.Service.Machines;

/// <summary>The services that jobs of a machine watch, by the charter in force.</summary>
public sealed class ServicesToKeep(CharterInForce inForce)
{
    /// <summary>Another charter is in force.</summary>
    public event Action Changed
    {
        add => inForce.Changed += value;
        remove => inForce.Changed -= value;
    }

    public IReadOnlyList<KeptService> Of(string machine)
    {
        var charter = inForce.Charter;
        return
        [
            .. charter
                .Placed.At(machine)
                .Where(j => j.WatchesService is not null)
                .Select(j => new KeptService(
                    j.Name,
                    RunStep.Of(charter.Steps[j.WatchesService!]),
                    RunStep.Of(charter.Steps[j.StartsService!]),
                    j.StartsAtMost.Times,
                    j.StartsAtMost.Within.ToDuration().ToTimeSpan()
                )),
        ];
    }
}
