using IronKeep.Stores.Chunks;

namespace IronKeep.Stores.Packs;

/// <summary>How packs are named: by the plain hash of the whole file, in a folder of its first two digits.</summary>
internal static class PackNames
{
    public const string Folder = "packs";
    private const string Ending = ".pack";

    public static string FileOf(string pack) => $"{Folder}/{pack[..2]}/{pack}{Ending}";

    public static string PackOf(string file) => Path.GetFileNameWithoutExtension(file);

    /// <summary>Whether a file is a pack at its own place; other files below the folder are nobody's.</summary>
    public static bool IsPack(string file) => IsName(PackOf(file)) && file == FileOf(PackOf(file));

    /// <summary>Whether a text can be the name of a pack; one from a file of the store could lead anywhere.</summary>
    public static bool IsName(string pack) =>
        pack.Length == 2 * ChunkId.Size && pack.All(c => char.IsAsciiHexDigit(c) && !char.IsAsciiLetterUpper(c));
}
