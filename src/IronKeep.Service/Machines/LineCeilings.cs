using IronKeep.Core.Ceilings;
using IronKeep.Service.Basics;
using IronKeep.Service.Charters;

namespace IronKeep.Service.Machines;

/// <summary>How much of a machine's line copies may take at present, by the charter in force and the clock.</summary>
public sealed class LineCeilings(CharterInForce inForce, TimeProvider clock)
{
    /// <summary>Bytes a second; null: any number.</summary>
    public long? Of(string machine)
    {
        var charter = inForce.Charter;
        return charter.Machines.TryGetValue(machine, out var declared) && !declared.Line.IsEmpty
            ? LineCeiling.At(declared.Line, clock.Now(), charter.Zone)
            : null;
    }
}
