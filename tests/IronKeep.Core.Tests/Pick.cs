using CsCheck;

namespace IronKeep.Core.Tests;

internal static class Pick
{
    /// <summary>One of the given values.</summary>
    public static Gen<T> Of<T>(params T[] values) => Gen.Int[0, values.Length - 1].Select(i => values[i]);
}
