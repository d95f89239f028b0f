using System.Collections.Concurrent;
using System.Collections.Immutable;
using System.Globalization;
using System.Security.Cryptography;
using IronKeep.Stores.Packs;
using IronKeep.Stores.Places;
using IronKeep.Stores.Pooled;

namespace IronKeep.Stores.Plain;

/// <summary>
/// A stream of bytes as it lies in a place, in files that follow each other: compressed frame by frame (<see cref="Starts"/> says where in
/// the files each frame begins), or as it is where there are none. Lengths are bytes.
/// </summary>
internal sealed record Pieces(ImmutableArray<CopyFile> Files, ImmutableArray<long> Starts, long Raw)
{
    /// <summary>Raw bytes of every frame but the last.</summary>
    public const int Frame = 4 * 1024 * 1024;
    public bool IsCompressed => !Starts.IsDefaultOrEmpty;
}

/// <summary>
/// Writes such a stream: frames of Zstandard (RFC 8878), each for itself, so that several threads compress and a part can be read without
/// all before it; together they are one file to any program. Cut into files of at most so many bytes. Not for two threads at once.
/// </summary>
internal sealed class PieceWriter : Stream
{
    private const long RoomAtOnce = 64 * 1024 * 1024;
    private readonly IPlace place;
    private readonly Func<int, string> nameOf;
    private readonly long most;
    private readonly int level;
    private readonly BlockingCollection<Task<ReadOnlyMemory<byte>>> frames;
    private readonly ConcurrentBag<Zstd> compressors = [];
    private readonly List<CopyFile> files = [];
    private readonly ImmutableArray<long>.Builder starts = ImmutableArray.CreateBuilder<long>();
    private readonly Task writing;
    private byte[] frame = new byte[Pieces.Frame];
    private int filled;
    private long raw,
        stored;
    private volatile Exception? failure;
    private bool ended;

    /// <summary>A level of 0 leaves the bytes as they are; <paramref name="nameOf"/> gives the name of the files, counted from 1.</summary>
    public PieceWriter(IPlace place, Func<int, string> nameOf, long most, int level)
    {
        (this.place, this.nameOf, this.most, this.level) = (place, nameOf, most, level);
        frames = new BlockingCollection<Task<ReadOnlyMemory<byte>>>(2 * Environment.ProcessorCount);
        writing = Task.Factory.StartNew(WriteAll, CancellationToken.None, TaskCreationOptions.LongRunning, TaskScheduler.Default);
    }

    /// <summary>Raw bytes so far, which is where the next one will stand.</summary>
    public override long Position
    {
        get => raw;
        set => throw new NotSupportedException();
    }

    /// <summary>Bytes that they took so far.</summary>
    public long Stored => Interlocked.Read(ref stored);

    public override void Write(ReadOnlySpan<byte> buffer)
    {
        while (buffer.Length > 0)
        {
            var length = Math.Min(buffer.Length, frame.Length - filled);
            buffer[..length].CopyTo(frame.AsSpan(filled));
            filled += length;
            raw += length;
            buffer = buffer[length..];
            if (filled == frame.Length)
                Send();
        }
    }

    /// <summary>Makes everything durable under its names.</summary>
    public Pieces Finish()
    {
        if (filled > 0 || raw == 0)
            Send();
        frames.CompleteAdding();
        ended = true;
        writing.Wait();
        ThrowIfFailed();
        return new Pieces([.. files], level > 0 ? starts.ToImmutable() : [], raw);
    }

    private void Send()
    {
        ThrowIfFailed();
        var (bytes, length) = (frame, filled);
        (frame, filled) = (new byte[Pieces.Frame], 0);
        frames.Add(level > 0 ? Task.Run(() => Compress(bytes, length)) : Task.FromResult<ReadOnlyMemory<byte>>(bytes.AsMemory(0, length)));
    }

    private ReadOnlyMemory<byte> Compress(byte[] bytes, int length)
    {
        if (!compressors.TryTake(out var zstd))
            zstd = new Zstd(level);
        // The bound of the format for what cannot be made smaller.
        var target = new byte[length + length / 128 + 1024];
        var size = zstd.Compress(bytes.AsSpan(0, length), target);
        compressors.Add(zstd);
        return size >= 0 ? target.AsMemory(0, size) : throw new InvalidOperationException("a frame is larger than any frame can be");
    }

    private void WriteAll()
    {
        IPlaceWriter? file = null;
        IncrementalHash? hash = null;
        long inFile = 0;
        try
        {
            foreach (var task in frames.GetConsumingEnumerable())
            {
                var bytes = task.GetAwaiter().GetResult();
                starts.Add(Stored);
                while (true)
                {
                    file ??= place.Create(Math.Min(most, RoomAtOnce));
                    hash ??= IncrementalHash.CreateHash(HashAlgorithmName.SHA256);
                    var part = bytes[..(int)Math.Min(bytes.Length, most - inFile)];
                    file.Append(part.Span);
                    hash.AppendData(part.Span);
                    Interlocked.Add(ref stored, part.Length);
                    (inFile, bytes) = (inFile + part.Length, bytes[part.Length..]);
                    if (bytes.Length == 0)
                        break;
                    EndFile();
                }
            }
            if (file is not null && failure is null && !givenUp)
                EndFile();
        }
        catch (Exception e)
        {
            failure = e;
            // Whoever waits for room in the queue must not wait for ever.
            while (frames.TryTake(out _, 100) || !frames.IsCompleted) { }
        }
        finally
        {
            file?.Dispose();
            hash?.Dispose();
        }

        void EndFile()
        {
            var name = nameOf(files.Count + 1);
            file!.Finish(name);
            file.Dispose();
            files.Add(new CopyFile(name[(name.LastIndexOf('/') + 1)..], inFile, Convert.ToHexStringLower(hash!.GetHashAndReset())));
            hash.Dispose();
            (file, hash, inFile) = (null, null, 0);
        }
    }

    private volatile bool givenUp;

    private void ThrowIfFailed()
    {
        if (failure is { } e)
            System.Runtime.ExceptionServices.ExceptionDispatchInfo.Throw(e);
    }

    protected override void Dispose(bool disposing)
    {
        if (disposing)
        {
            if (!ended)
            {
                ended = givenUp = true;
                frames.CompleteAdding();
                writing.Wait();
            }
            frames.Dispose();
            foreach (var zstd in compressors)
                zstd.Dispose();
            compressors.Clear();
        }
        base.Dispose(disposing);
    }

    public override bool CanRead => false;
    public override bool CanSeek => false;
    public override bool CanWrite => true;
    public override long Length => raw;

    public override void Flush()
    {
        // Only whole frames are written; Finish makes them durable.
    }

    public override void Write(byte[] buffer, int offset, int count) => Write(buffer.AsSpan(offset, count));

    public override int Read(byte[] buffer, int offset, int count) => throw new NotSupportedException();

    public override long Seek(long offset, SeekOrigin origin) => throw new NotSupportedException();

    public override void SetLength(long value) => throw new NotSupportedException();

    /// <summary>The names of the files that lie in a folder: NAME.000001 and so on.</summary>
    public static Func<int, string> Named(string folder, string name) =>
        number => string.Create(CultureInfo.InvariantCulture, $"{folder}/{name}.{number:000000}");
}
