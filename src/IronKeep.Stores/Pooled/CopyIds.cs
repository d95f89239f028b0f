using System.Globalization;
using System.Security.Cryptography;

namespace IronKeep.Stores.Pooled;

/// <summary>The names of copies.</summary>
public static class CopyIds
{
    private const string Letters = "0123456789abcdefghjkmnpqrstvwxyz";

    /// <summary>A new copy id: the time (UTC) for people, five letters against chance. Example: 20270328-010000-k7q2m.</summary>
    public static string New(DateTimeOffset now) =>
        $"{now.UtcDateTime.ToString("yyyyMMdd-HHmmss", CultureInfo.InvariantCulture)}-{RandomNumberGenerator.GetString(Letters, 5)}";
}
