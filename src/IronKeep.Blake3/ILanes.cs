namespace IronKeep.Blake3;

/// <summary>
/// Several 32-bit words side by side, one for each input that is hashed at the same time. <typeparamref name="V"/> is the machine's
/// vector; the implementations differ in its width only.
/// </summary>
internal unsafe interface ILanes<V>
    where V : unmanaged
{
    static abstract int Count { get; }
    static abstract V Broadcast(uint word);
    static abstract V Load(uint* words);
    static abstract void Store(V value, uint* words);
    static abstract V Add(V a, V b);
    static abstract V Xor(V a, V b);
    static abstract V Right16(V a);
    static abstract V Right12(V a);
    static abstract V Right8(V a);
    static abstract V Right7(V a);

    /// <summary>
    /// Reads one block of 64 bytes from each input, <paramref name="stride"/> bytes apart, as 16 vectors: word i of all inputs in vector i.
    /// </summary>
    static abstract void Transpose(byte* first, nint stride, V* words);
}
