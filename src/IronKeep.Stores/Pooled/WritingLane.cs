using IronKeep.Stores.Chunks;
using IronKeep.Stores.Packs;
using IronKeep.Stores.Trees;

namespace IronKeep.Stores.Pooled;

public sealed partial class WritingSession
{
    /// <summary>One worker's way into the store; not for two threads at once.</summary>
    public sealed class Lane : IDisposable
    {
        private readonly WritingSession session;
        private readonly PackBuilder pack;

        internal Lane(WritingSession session, PackKind kind)
        {
            (this.session, Kind) = (session, kind);
            pack = new PackBuilder(session.store.Place, session.store.Keys, kind, session.level);
        }

        internal PackKind Kind { get; }
        internal long StoredBytes => pack.StoredBytes;
        internal bool HasFile => pack.HasFile;

        /// <summary>Stores a chunk unless the store has it; the content may be at most <see cref="ContentCutter.Most"/> bytes.</summary>
        public ChunkId Put(ReadOnlySpan<byte> content) => Put(content, IdOf(content));

        /// <summary>The identity that content has in this store.</summary>
        public ChunkId IdOf(ReadOnlySpan<byte> content) => session.store.Keys.IdOf(content);

        /// <summary>The same for a chunk whose identity is known already.</summary>
        public ChunkId Put(ReadOnlySpan<byte> content, ChunkId id)
        {
            session.ThrowIfFailed();
            if ((Kind == PackKind.Content ? session.Find(id, content.Length) : session.store.Index.StaysIn(id)) is var there and >= 0)
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
        public ContentRef Refer(IReadOnlyList<ChunkId> ids)
        {
            if (ids.Count <= ContentRef.MostDirect)
                return new ContentRef(0, [.. ids]);
            var above = Lists(ids);
            var depth = 1;
            for (; above.Count > ContentRef.MostDirect; depth++)
                above = Lists(above);
            return new ContentRef(depth, [.. above]);
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

        // Cut where an identity chooses, so that a change in the middle of a large file changes one list.
        private List<ChunkId> Lists(IReadOnlyList<ChunkId> ids)
        {
            const int least = 256,
                most = 4096;
            var lists = new List<ChunkId>();
            var bytes = new RecordBuffer();
            for (var i = 0; i < ids.Count; i++)
            {
                ids[i].Write(bytes.Take(ChunkId.Size));
                var count = bytes.Length / ChunkId.Size;
                if (i + 1 < ids.Count && count < most && (count < least || (ids[i].D & 0x3FF) != 0))
                    continue;
                lists.Add(Put(bytes.Written));
                bytes.Clear();
            }
            return lists;
        }

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
