using IronKeep.Stores.Chunks;
using IronKeep.Stores.Packs;
using IronKeep.Stores.Sessions;

namespace IronKeep.Stores.Pooled;

public sealed partial class WritingSession
{
    /// <summary>One worker's way into the store; not for two threads at once.</summary>
    public sealed class Lane : IChunkLane
    {
        private readonly WritingSession session;
        private readonly PackBuilder pack;
        private long takenBytes;

        internal Lane(WritingSession session, PackKind kind)
        {
            (this.session, Kind) = (session, kind);
            pack = new PackBuilder(session.store.Place, session.store.Keys, kind, session.level);
        }

        internal PackKind Kind { get; }
        internal long StoredBytes => pack.StoredBytes + Interlocked.Read(ref takenBytes);
        internal bool HasFile => pack.HasFile;

        /// <summary>Stores a chunk unless the store has it; the content may be at most <see cref="ContentCutter.Most"/> bytes.</summary>
        public ChunkId Put(ReadOnlySpan<byte> content) => Put(content, IdOf(content));

        /// <summary>The identity that content has in this store.</summary>
        public ChunkId IdOf(ReadOnlySpan<byte> content) => session.store.Keys.IdOf(content);

        /// <summary>The same for a chunk whose identity is known already.</summary>
        public ChunkId Put(ReadOnlySpan<byte> content, ChunkId id)
        {
            session.ThrowIfFailed();
            if (
                (Kind == PackKind.Content ? session.Find(id, content.Length) : session.Stays(session.store.Index.StaysIn(id)))
                is var there
                    and >= 0
            )
            {
                session.needs.Note(there);
                return id;
            }
            if (!session.unsealed.TryAdd(id, 0))
                return id;
            Interlocked.Add(ref session.newBytes, content.Length);
            Add(id, content);
            return id;
        }

        /// <summary>A reference to content of these chunks; long lists of identities become chunks themselves.</summary>
        public ContentRef Refer(IReadOnlyList<ChunkId> ids) => IdLists.Refer(ids, Put);

        /// <summary>
        /// Stores the chunks of a block that somebody else compressed: as it is when the store lacks all of them, else those that it lacks.
        /// </summary>
        internal void PutBlock(
            ReadOnlySpan<byte> stored,
            ReadOnlySpan<byte> raw,
            bool compressed,
            IReadOnlyList<(ChunkId Id, int Length)> chunks
        )
        {
            session.ThrowIfFailed();
            var lacking = new bool[chunks.Count];
            var (count, bytes) = (0, 0L);
            for (var i = 0; i < chunks.Count; i++)
            {
                if (session.Find(chunks[i].Id, chunks[i].Length) is var there and >= 0)
                    session.needs.Note(there);
                else if (session.unsealed.TryAdd(chunks[i].Id, 0))
                    (lacking[i], count, bytes) = (true, count + 1, bytes + chunks[i].Length);
            }
            Interlocked.Add(ref session.newBytes, bytes);
            if (count == chunks.Count)
            {
                Interlocked.Add(ref takenBytes, stored.Length);
                PutBlock(
                    stored,
                    new PackBlock(0, stored.Length, raw.Length, compressed ? BlockCodec.Zstd : BlockCodec.Raw, 0, chunks.Count),
                    chunks
                );
                return;
            }
            for (int i = 0, at = 0; i < chunks.Count; at += chunks[i].Length, i++)
                if (lacking[i])
                    Add(chunks[i].Id, raw.Slice(at, chunks[i].Length));
        }

        /// <summary>Adds blocks of another pack as they are.</summary>
        internal void PutBlock(ReadOnlySpan<byte> stored, PackBlock block, IEnumerable<(ChunkId, int)> contents)
        {
            try
            {
                Publish(pack.AddBlock(stored, block.Raw, block.Codec, contents));
            }
            catch (Exception e)
            {
                throw session.Failed(e);
            }
        }

        /// <summary>Adds a chunk whether or not the store has it.</summary>
        internal void PutAnyway(ChunkId id, ReadOnlySpan<byte> content) => Add(id, content);

        internal void Absorb(Lane other)
        {
            try
            {
                Publish(pack.Absorb(other.pack));
            }
            catch (Exception e)
            {
                throw session.Failed(e);
            }
        }

        internal void Seal()
        {
            try
            {
                Publish(pack.Seal());
            }
            catch (Exception e)
            {
                throw session.Failed(e);
            }
        }

        /// <summary>Gives up what is not sealed.</summary>
        public void Dispose() => pack.Dispose();

        private void Add(ChunkId id, ReadOnlySpan<byte> content)
        {
            try
            {
                Publish(pack.Add(id, content));
            }
            catch (Exception e)
            {
                throw session.Failed(e);
            }
        }

        private void Publish(WrittenPack? full)
        {
            if (full is not null)
                session.Publish(full);
        }
    }
}
