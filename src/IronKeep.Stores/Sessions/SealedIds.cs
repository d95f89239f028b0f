using System.Buffers.Binary;
using System.Security.Cryptography;
using System.Text;
using IronKeep.Stores.Chunks;
using IronKeep.Stores.Keys;

namespace IronKeep.Stores.Sessions;

/// <summary>
/// The identities of a store's chunks as one machine is told them: turned over under a key of that machine, by four rounds of a Feistel
/// network over the store's keyed hash (Luby and Rackoff, SIAM J. Comput. 17, 1988). A machine can name only what it was told of; what was
/// told to another, or stands in the store itself, turns into an identity that nothing has. Safe for several threads.
/// </summary>
public sealed class SealedIds
{
    private const int Half = ChunkId.Size / 2,
        Rounds = 4;
    private readonly HashKind hash;
    private readonly byte[] key;

    internal SealedIds(StoreKeys keys, string machine)
    {
        hash = keys.Hash;
        key = HKDF.DeriveKey(
            HashAlgorithmName.SHA256,
            keys.Root.ToArray(),
            StoreKeys.Size,
            info: Encoding.UTF8.GetBytes($"ironkeep identities for machine {machine}")
        );
    }

    private SealedIds(HashKind hash, byte[] key) => (this.hash, this.key) = (hash, key);

    /// <summary>Under a key that nobody else was ever told anything by, and that ends with it.</summary>
    internal static SealedIds Passing(StoreKeys keys) => new(keys.Hash, RandomNumberGenerator.GetBytes(StoreKeys.Size));

    /// <summary>What the machine is told.</summary>
    public ChunkId Seal(ChunkId id) => Turn(id, forth: true);

    /// <summary>What the machine means.</summary>
    public ChunkId Open(ChunkId told) => Turn(told, forth: false);

    private ChunkId Turn(ChunkId id, bool forth)
    {
        Span<byte> bytes = stackalloc byte[ChunkId.Size];
        id.Write(bytes);
        Span<byte> left = bytes[..Half],
            right = bytes[Half..];
        Span<byte> input = stackalloc byte[1 + Half];
        Span<byte> mask = stackalloc byte[StoreKeys.Size];
        for (var i = 0; i < Rounds; i++)
        {
            var round = forth ? i : Rounds - 1 - i;
            // Even rounds change the left half, odd ones the right.
            var from = round % 2 == 0 ? right : left;
            var to = round % 2 == 0 ? left : right;
            input[0] = (byte)round;
            from.CopyTo(input[1..]);
            Hashes.Keyed(hash, key, input, mask);
            var mixed = BinaryPrimitives.ReadUInt128LittleEndian(to) ^ BinaryPrimitives.ReadUInt128LittleEndian(mask);
            BinaryPrimitives.WriteUInt128LittleEndian(to, mixed);
        }
        return ChunkId.Read(bytes);
    }
}
