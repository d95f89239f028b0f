using System.Security.Cryptography;
using IronKeep.Stores.Places;

namespace IronKeep.Stores.Pooled;

/// <summary>
/// A file of 1 MiB that a store keeps so that it can still be tended when its disk is full to the last byte: it goes when a note or a lease
/// finds no room, and is made anew when there is some. Random, because file systems that compress would keep no room for zeros.
/// </summary>
internal static class Ballast
{
    public const string FileName = "ballast";
    private const int Size = 1024 * 1024;

    public static T With<T>(IPlace place, Func<T> action)
    {
        try
        {
            return action();
        }
        catch (PlaceException e) when (e.Fault == PlaceFault.Full && place.Exists(FileName))
        {
            place.Delete(FileName);
            return action();
        }
    }

    /// <summary>Makes the file where it is not there; without room it is left for later.</summary>
    public static void Take(IPlace place)
    {
        try
        {
            if (!place.Exists(FileName))
                place.Write(FileName, RandomNumberGenerator.GetBytes(Size));
        }
        catch (PlaceException e) when (e.Fault == PlaceFault.Full)
        {
            // There is nothing to keep.
        }
    }
}
