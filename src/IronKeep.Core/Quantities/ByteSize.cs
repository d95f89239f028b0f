using System.Globalization;

namespace IronKeep.Core.Quantities;

/// <summary>
/// A number of bytes. Written with a unit and read back with one: kB, MB, GB and TB are powers of 1000, KiB, MiB, GiB and
/// TiB powers of 1024 (IEC 80000-13). A text without a unit is refused, because nobody can tell what was meant.
/// </summary>
public readonly record struct ByteSize(long Bytes) : IComparable<ByteSize>
{
    private static readonly (string Name, long Factor)[] Units =
    [
        ("B", 1),
        ("kB", 1_000),
        ("MB", 1_000_000),
        ("GB", 1_000_000_000),
        ("TB", 1_000_000_000_000),
        ("KiB", 1L << 10),
        ("MiB", 1L << 20),
        ("GiB", 1L << 30),
        ("TiB", 1L << 40),
    ];

    /// <summary>Reads "200 GB" or "1.5 TiB"; on failure says what is wrong and what would be right.</summary>
    public static bool TryParse(string text, out ByteSize size, out string problem)
    {
        size = default;
        problem = "";
        var trimmed = text.Trim();
        var digits = trimmed.TakeWhile(c => char.IsAsciiDigit(c) || c == '.').Count();
        var unitText = trimmed[digits..].Trim();
        if (
            digits == 0
            || !decimal.TryParse(trimmed[..digits], NumberStyles.AllowDecimalPoint, CultureInfo.InvariantCulture, out var number)
        )
        {
            problem = $"'{text}' is not a size; write a number and a unit, such as 200 GB";
            return false;
        }
        if (unitText.Length == 0)
        {
            problem = $"'{text}' has no unit; write {trimmed} GB or {trimmed} GiB, say";
            return false;
        }
        foreach (var (name, factor) in Units)
        {
            if (!name.Equals(unitText, StringComparison.OrdinalIgnoreCase))
                continue;
            if (number > long.MaxValue / (decimal)factor)
            {
                problem = $"'{text}' is larger than any store can be";
                return false;
            }
            size = new ByteSize((long)(number * factor));
            return true;
        }
        problem = $"'{unitText}' is not a unit of size; use B, kB, MB, GB, TB, KiB, MiB, GiB or TiB";
        return false;
    }

    /// <summary>The size with three significant figures and a decimal unit, for people: "62.4 GB".</summary>
    public override string ToString()
    {
        var value = (double)Bytes;
        string[] names = ["B", "kB", "MB", "GB", "TB", "PB"];
        var unit = 0;
        while (Math.Abs(value) >= 999.5 && unit < names.Length - 1)
        {
            value /= 1000;
            unit++;
        }
        var format =
            unit == 0 || Math.Abs(value) >= 99.95 ? "0"
            : Math.Abs(value) >= 9.995 ? "0.#"
            : "0.##";
        return value.ToString(format, CultureInfo.InvariantCulture) + " " + names[unit];
    }

    /// <summary>The size in the largest unit that divides it exactly, so that reading it back gives the same bytes.</summary>
    public string ToExactText()
    {
        var bytes = Bytes;
        var best = Units.Where(u => bytes != 0 && bytes % u.Factor == 0).OrderByDescending(u => u.Factor).FirstOrDefault();
        return best.Name is null ? $"{Bytes} B" : $"{Bytes / best.Factor} {best.Name}";
    }

    public int CompareTo(ByteSize other) => Bytes.CompareTo(other.Bytes);

    public static bool operator <(ByteSize left, ByteSize right) => left.Bytes < right.Bytes;

    public static bool operator >(ByteSize left, ByteSize right) => left.Bytes > right.Bytes;

    public static bool operator <=(ByteSize left, ByteSize right) => left.Bytes <= right.Bytes;

    public static bool operator >=(ByteSize left, ByteSize right) => left.Bytes >= right.Bytes;
}
