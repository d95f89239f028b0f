using System.Net;

namespace IronKeep.Agent;

/// <summary>
/// Keeps what travels for one order within so many bytes a second, over all its requests together. Safe for several threads.
/// </summary>
internal sealed class LinePace(TimeProvider clock)
{
    /// <summary>A piece of a body that goes at once where a pace is kept to, and where none is (bytes).</summary>
    private const int Piece = 16 * 1024,
        FreePiece = 256 * 1024;

    /// <summary>Nobody waits longer at a time, so that another pace is soon kept to.</summary>
    private static readonly TimeSpan LongestWait = TimeSpan.FromSeconds(2);
    private readonly Lock gate = new();
    private long free = clock.GetTimestamp();

    // 0: any number.
    private long perSecond;

    /// <summary>Bytes a second; null: any number.</summary>
    public long? PerSecond
    {
        get => Interlocked.Read(ref perSecond) is > 0 and var rate ? rate : null;
        set => Interlocked.Exchange(ref perSecond, value ?? 0);
    }

    /// <summary>Waits until so many bytes may travel.</summary>
    public async Task TakeAsync(int bytes, CancellationToken cancel)
    {
        if (PerSecond is not { } rate)
            return;
        long turn;
        lock (gate)
            // What was not used is not saved up.
            turn = free = Math.Max(free, clock.GetTimestamp()) + (long)(bytes * (double)clock.TimestampFrequency / rate);
        for (TimeSpan left; PerSecond == rate && (left = clock.GetElapsedTime(clock.GetTimestamp(), turn)) > TimeSpan.Zero; )
            await Task.Delay(left < LongestWait ? left : LongestWait, clock, cancel);
    }

    /// <summary>A body that goes at this pace.</summary>
    public HttpContent Body(ReadOnlyMemory<byte> body) => new Paced(this, body);

    private sealed class Paced(LinePace pace, ReadOnlyMemory<byte> body) : HttpContent
    {
        protected override Task SerializeToStreamAsync(Stream stream, TransportContext? context) =>
            SerializeToStreamAsync(stream, context, CancellationToken.None);

        protected override async Task SerializeToStreamAsync(Stream stream, TransportContext? context, CancellationToken cancellationToken)
        {
            for (var rest = body; rest.Length > 0; )
            {
                var piece = rest[..Math.Min(pace.PerSecond is null ? FreePiece : Piece, rest.Length)];
                rest = rest[piece.Length..];
                await pace.TakeAsync(piece.Length, cancellationToken);
                await stream.WriteAsync(piece, cancellationToken);
            }
        }

        protected override bool TryComputeLength(out long length)
        {
            length = body.Length;
            return true;
        }
    }
}
