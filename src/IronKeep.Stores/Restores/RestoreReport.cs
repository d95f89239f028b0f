namespace IronKeep.Stores.Restores;

/// <summary>Something that could not be restored, or not wholly: the path as shown and why.</summary>
public sealed record RestoreProblem(string Path, string Problem);

/// <summary>
/// What a restore did. Bytes are those of the files' contents; overwritten and beside count entries that met an existing one.
/// </summary>
public sealed record RestoreReport(
    long Files,
    long Folders,
    long Links,
    long Bytes,
    long Overwritten,
    long Beside,
    IReadOnlyList<RestoreProblem> Problems
);

/// <summary>
/// What happens where an entry exists already: it stays and is reported; it is replaced as a whole; or the restored one is put
/// beside it under a name of its own. Folders that exist are always shared.
/// </summary>
public enum ExistingRule
{
    Keep,
    Overwrite,
    Beside,
}
