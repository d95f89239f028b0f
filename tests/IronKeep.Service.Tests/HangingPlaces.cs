using IronKeep.Service.Stores;
using IronKeep.Stores.Places;

namespace IronKeep.Service.Tests;

/// <summary>Places of which one hangs for as long as it is told to.</summary>
internal sealed class HangingPlaces(string name) : StorePlaces([new FolderKind(), new SftpKind()])
{
    public ManualResetEventSlim Answers { get; } = new(true);

    protected override IPlace Bare(Core.Charters.StoreDefinition store) =>
        store.Name == name ? new Hanging(base.Bare(store), Answers) : base.Bare(store);

    private sealed class Hanging(IPlace inner, ManualResetEventSlim answers) : IPlace
    {
        private IPlace Inner
        {
            get
            {
                answers.Wait();
                return inner;
            }
        }

        public string Name => inner.Name;
        public PlaceAbilities Can => inner.Can;

        public IReadOnlyList<PlaceFile> List(string folder) => Inner.List(folder);

        public bool Exists(string name) => Inner.Exists(name);

        public byte[] Read(string name) => Inner.Read(name);

        public int ReadAt(string name, long offset, Span<byte> buffer) => Inner.ReadAt(name, offset, buffer);

        public IPlaceWriter Create(long expected) => Inner.Create(expected);

        public void Move(string from, string to) => Inner.Move(from, to);

        public void Delete(string name, bool durable = true) => Inner.Delete(name, durable);

        public void RemoveRemnants(TimeSpan idle) => Inner.RemoveRemnants(idle);

        public long? FreeBytes() => Inner.FreeBytes();
    }
}
