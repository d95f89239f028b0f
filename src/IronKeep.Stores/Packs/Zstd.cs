using System.Runtime.InteropServices;

namespace IronKeep.Stores.Packs;

/// <summary>
/// Zstandard (RFC 8878), one frame at a time: the system's libzstd where there is one, because it decompresses a third faster, else
/// the managed port. Not for two threads at once.
/// </summary>
internal sealed unsafe partial class Zstd : IDisposable
{
    /// <summary>Whether the system's library is there; tests turn it off to try the other.</summary>
    internal static bool UsesSystemLibrary { get; set; } = NativeLibrary.TryLoad("libzstd.so.1", out _);

    private readonly nint compressContext,
        decompressContext;
    private readonly ZstdSharp.Compressor? compressor;
    private readonly ZstdSharp.Decompressor? decompressor;
    private readonly int level;

    public Zstd(int level = 1)
    {
        this.level = level;
        if (UsesSystemLibrary)
        {
            compressContext = CreateCompressContext();
            decompressContext = CreateDecompressContext();
        }
        else
        {
            compressor = new ZstdSharp.Compressor(level);
            decompressor = new ZstdSharp.Decompressor();
        }
    }

    /// <summary>The compressed length, or -1 when it would not fit into <paramref name="target"/>.</summary>
    public int Compress(ReadOnlySpan<byte> content, Span<byte> target)
    {
        if (compressor is not null)
        {
            return compressor.TryWrap(content, target, out var written) ? written : -1;
        }
        fixed (
            byte* from = content,
                to = target
        )
        {
            var size = CompressFrame(compressContext, to, (nuint)target.Length, from, (nuint)content.Length, level);
            return IsError(size) != 0 ? -1 : (int)size;
        }
    }

    /// <summary>Fills <paramref name="target"/> exactly; false when the frame is damaged or of another length.</summary>
    public bool Decompress(ReadOnlySpan<byte> frame, Span<byte> target)
    {
        if (decompressor is not null)
        {
            try
            {
                return decompressor.TryUnwrap(frame, target, out var written) && written == target.Length;
            }
            catch (Exception e) when (e is ZstdSharp.ZstdException or ArgumentException or IndexOutOfRangeException)
            {
                return false;
            }
        }
        fixed (
            byte* from = frame,
                to = target
        )
        {
            var size = DecompressFrame(decompressContext, to, (nuint)target.Length, from, (nuint)frame.Length);
            return IsError(size) == 0 && size == (nuint)target.Length;
        }
    }

    public void Dispose()
    {
        compressor?.Dispose();
        decompressor?.Dispose();
        if (compressContext != 0)
            FreeCompressContext(compressContext);
        if (decompressContext != 0)
            FreeDecompressContext(decompressContext);
    }

    [LibraryImport("libzstd.so.1", EntryPoint = "ZSTD_createCCtx")]
    private static partial nint CreateCompressContext();

    [LibraryImport("libzstd.so.1", EntryPoint = "ZSTD_createDCtx")]
    private static partial nint CreateDecompressContext();

    [LibraryImport("libzstd.so.1", EntryPoint = "ZSTD_freeCCtx")]
    private static partial nuint FreeCompressContext(nint context);

    [LibraryImport("libzstd.so.1", EntryPoint = "ZSTD_freeDCtx")]
    private static partial nuint FreeDecompressContext(nint context);

    [LibraryImport("libzstd.so.1", EntryPoint = "ZSTD_compressCCtx")]
    private static partial nuint CompressFrame(nint context, byte* target, nuint targetSize, byte* content, nuint size, int level);

    [LibraryImport("libzstd.so.1", EntryPoint = "ZSTD_decompressDCtx")]
    private static partial nuint DecompressFrame(nint context, byte* target, nuint targetSize, byte* frame, nuint size);

    [LibraryImport("libzstd.so.1", EntryPoint = "ZSTD_isError")]
    private static partial uint IsError(nuint result);
}
