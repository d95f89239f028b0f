using System.Globalization;
using System.Security.Cryptography;
using System.Text;
using System.Text.RegularExpressions;

namespace IronKeep.Stores.Keys;

/// <summary>
/// A code to print and to lock away: 32 random bytes as eight groups of seven digits and letters (Crockford's alphabet: no I, L, O or U),
/// each group with a check letter of its own, so that a slip in typing is found and named.
/// </summary>
public static partial class RecoverySheet
{
    private const string Letters = "0123456789ABCDEFGHJKMNPQRSTVWXYZ";
    private const int Groups = 8,
        BytesAGroup = 4,
        LettersAGroup = 7;

    /// <summary>Makes a code; whoever has it can open the store once it has been added as a wrapping key.</summary>
    public static string NewCode() => Write(RandomNumberGenerator.GetBytes(Groups * BytesAGroup));

    /// <summary>The code in a text: the whole text as typed, or the two lines of the sheet where all of it was kept.</summary>
    public static string CodeIn(string text) => Rows().Matches(text) is { Count: 2 } rows ? $"{rows[0].Value}-{rows[1].Value}" : text;

    [GeneratedRegex("(?<![0-9A-Za-z-])(?:[0-9A-Za-z]{8}-){3}[0-9A-Za-z]{8}(?![0-9A-Za-z-])")]
    private static partial Regex Rows();

    internal static string Write(ReadOnlySpan<byte> key)
    {
        var text = new StringBuilder();
        for (var group = 0; group < Groups; group++)
        {
            if (group > 0)
                text.Append('-');
            var value = System.Buffers.Binary.BinaryPrimitives.ReadUInt32BigEndian(key[(group * BytesAGroup)..]);
            for (var i = LettersAGroup - 1; i >= 0; i--)
                text.Append(Letters[(int)(((ulong)value << 3 >> (5 * i)) & 31)]);
            text.Append(Check(value, group));
        }
        return text.ToString();
    }

    internal static byte[] ReadCode(string code)
    {
        var letters = code.ToUpper(CultureInfo.InvariantCulture)
            .Where(c => !char.IsWhiteSpace(c) && c != '-')
            .Select(c =>
                c switch
                {
                    'O' => '0',
                    'I' or 'L' => '1',
                    _ => c,
                }
            )
            .ToArray();
        if (letters.Length != Groups * (LettersAGroup + 1))
            throw new StoreKeyException(
                $"a recovery code has {Groups} groups of {LettersAGroup + 1} letters and digits; this one has {letters.Length} in all "
                    + $"instead of {Groups * (LettersAGroup + 1)}"
            );
        var key = new byte[Groups * BytesAGroup];
        for (var group = 0; group < Groups; group++)
        {
            ulong value = 0;
            for (var i = 0; i < LettersAGroup; i++)
            {
                var digit = Letters.IndexOf(letters[group * (LettersAGroup + 1) + i], StringComparison.Ordinal);
                if (digit < 0)
                    throw Wrong(group);
                value = (value << 5) | (uint)digit;
            }
            if ((value & 7) != 0 || Check((uint)(value >> 3), group) != letters[group * (LettersAGroup + 1) + LettersAGroup])
                throw Wrong(group);
            System.Buffers.Binary.BinaryPrimitives.WriteUInt32BigEndian(key.AsSpan(group * BytesAGroup), (uint)(value >> 3));
        }
        return key;
    }

    /// <summary>
    /// The sheet as text, to be printed; <paramref name="label"/> is what people call it, <paramref name="made"/> is shown in UTC.
    /// </summary>
    public static string Text(string label, string storeId, string place, string code, DateTimeOffset made) =>
        $"""
            IRON KEEP: RECOVERY SHEET

            sheet    {label}
            store    {storeId}
            place    {place}
            made     {made.UtcDateTime:yyyy-MM-dd HH:mm} UTC

            This code opens the store, without the service and without any other
            secret. Keep it on paper, away from the machines.

                {code[..35]}
                {code[36..]}

            To read the store with it: put the code into a file and run
                ironkeep rescue FOLDER list --recovery-file FILE
            Letters I and L are read as 1, O as 0; the last letter of each group
            is a check, so a slip is named by its group.

            If the sheet is lost or was seen, withdraw it:
                ironkeep store key list FOLDER
                ironkeep store key withdraw FOLDER ID
            """;

    private static StoreKeyException Wrong(int group) =>
        new($"group {group + 1} of the recovery code is not what was printed; read it again");

    private static char Check(uint value, int group)
    {
        Span<byte> bytes = stackalloc byte[5];
        System.Buffers.Binary.BinaryPrimitives.WriteUInt32BigEndian(bytes, value);
        bytes[4] = (byte)group;
        Span<byte> hash = stackalloc byte[32];
        SHA256.HashData(bytes, hash);
        return Letters[hash[0] & 31];
    }
}
