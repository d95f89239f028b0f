using IronKeep.Catalogue;
using IronKeep.Core.Ceilings;

namespace IronKeep.Service.Copies;

/// <summary>What a person waits for comes before what only has its turn.</summary>
internal static class Waited
{
    private const int MostImportant = 6;

    public static RunClaim ClaimOf(Run run) =>
        new($"{run.Kind} {run.Id}", run.Machine, run.Store is null ? [] : [run.Store], [], MostImportant, run.NotBefore ?? run.Queued);
}
