using System.Buffers.Binary;
using IronKeep.Contracts;
using IronKeep.Core.Machines;
using IronKeep.Core.Watching;
using IronKeep.Stores.Dated;
using IronKeep.Stores.Places;

namespace IronKeep.Agent;

/// <summary>
/// Answers the service's calls to a store on this machine's own disk, where the machine allows it, until the service says that this is
/// over. What it answered is said again until the service took it, so that nothing is done twice.
/// </summary>
internal sealed class PlaceWork(ServiceLine line, Func<AllowedCommands> allowed, string allowedFile, PlaceOrder order)
{
    private const int Workers = 4,
        Head = 9;
    private static readonly TimeSpan FirstPause = TimeSpan.FromMilliseconds(250),
        LongestPause = TimeSpan.FromSeconds(20),
        GivesUpAfter = TimeSpan.FromMinutes(10);
    private readonly LinePace pace = new(TimeProvider.System);

    /// <summary>In one sentence how it ended.</summary>
    public async Task<string> DoAsync(CancellationToken stopping)
    {
        var what = $"store {order.Store} in {order.Folder}";
        try
        {
            await line.PostAsync<OrderBeginRequest, CopyReportAnswer>(
                $"places/{order.Token}/begin",
                new OrderBeginRequest(line.Instance),
                stopping
            );
            if (StoresHere.WhyNot(order.Folder, allowed, allowedFile) is { } not)
            {
                await line.PostAsync<CopyFailRequest, CopyReportAnswer>(
                    $"places/{order.Token}/fail",
                    new CopyFailRequest(
                        new CopyReportRequest(new CopyFigures(0, 0, 0, 0, 0, 0, 0, 0, 0, 0), 0, []),
                        FailureClass.AccessRefused,
                        not
                    ),
                    stopping
                );
                return $"{what}: {not}";
            }
            using var served = new ServedPlace(new FolderPlace(order.Folder), new LocalDatedFolder(order.Folder));
            await Task.WhenAll(Enumerable.Range(0, Workers).Select(w => WorkAsync(w, served, stopping)));
            return $"{what}: answered for it until there was nothing more to ask";
        }
        catch (Exception e) when (e is LineException or OperationCanceledException)
        {
            return $"{what}: answered for it until {e.Message}";
        }
    }

    private async Task WorkAsync(int worker, ServedPlace served, CancellationToken stopping)
    {
        var (number, answer) = (0L, Array.Empty<byte>());
        var away = System.Diagnostics.Stopwatch.StartNew();
        for (var pause = FirstPause; !stopping.IsCancellationRequested; )
        {
            try
            {
                var body = new byte[Head + answer.Length];
                body[0] = (byte)worker;
                BinaryPrimitives.WriteInt64LittleEndian(body.AsSpan(1), number);
                answer.CopyTo(body, Head);
                var next = await line.PostBytesAsync($"places/{order.Token}/work", body, pace, stopping);
                (pause, number, answer) = (FirstPause, 0, []);
                away.Restart();
                if (next.Length < 8)
                    continue;
                number = BinaryPrimitives.ReadInt64LittleEndian(next);
                answer = await Task.Run(() => served.Answer(next.AsSpan(8)), CancellationToken.None);
            }
            catch (LineException e) when (e.Fault == LineFault.Away && away.Elapsed < GivesUpAfter)
            {
                await Task.Delay(pause, stopping).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
                pause = pause < LongestPause ? 2 * pause : LongestPause;
            }
            catch (LineException e) when (e.Fault == LineFault.Over)
            {
                return;
            }
        }
    }
}

/// <summary>Where on this machine a store may lie.</summary>
internal static class StoresHere
{
    /// <summary>Why no store may lie in a folder, in words for who can change that; null: it may.</summary>
    public static string? WhyNot(string folder, Func<AllowedCommands> allowed, string allowedFile)
    {
        try
        {
            return allowed().AllowsStore(folder)
                ? null
                : $"this machine does not let a store lie in {folder}: list it under 'stores' in {allowedFile} there";
        }
        catch (IOException e)
        {
            return $"this machine does not let a store lie in {folder}: {e.Message}";
        }
    }
}
