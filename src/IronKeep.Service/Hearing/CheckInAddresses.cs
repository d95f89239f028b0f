using System.Collections.Concurrent;
using System.Globalization;
using System.Security.Cryptography;
using System.Text;
using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Watching;
using IronKeep.Core.Watching.Logs;
using IronKeep.Service.Basics;
using IronKeep.Service.Facts;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace IronKeep.Service.Hearing;

/// <summary>
/// Secret addresses at which watched jobs check in, one a job and machine: kept as a hash, shown once, never logged, made anew or taken
/// back at once. What is known of them is kept for a few seconds, so that a thousand check-ins a second ask the catalogue little.
/// </summary>
public sealed class CheckInAddresses(IDbContextFactory<KeepContext> catalogue, TimeProvider clock)
{
    private const double PerSecond = 1;
    private const int AtOnce = 60,
        MostKept = 50_000;
    private static readonly TimeSpan Keeps = TimeSpan.FromSeconds(5);
    private readonly ConcurrentDictionary<string, Known> known = new();

    private sealed class Known(long id, string job, string machine, long readAt)
    {
        public long Id => id;
        public string Job => job;
        public string Machine => machine;
        public long ReadAt { get; set; } = readAt;
        public double Saved { get; set; } = AtOnce;
        public long At { get; set; } = readAt;
    }

    /// <summary>Makes the address of a job on a machine; the one before ends with it. The secret is only in the answer.</summary>
    public async Task<(CheckInAddress Address, string Secret)> MakeAsync(string job, string machine, string by, CancellationToken cancel)
    {
        var secret = RandomNumberGenerator.GetHexString(40, lowercase: true);
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        await using var change = await db.BeginChangeAsync(cancel);
        await db.CheckInAddresses.Where(a => a.Job == job && a.Machine == machine).ExecuteDeleteAsync(cancel);
        var address = new CheckInAddress
        {
            Job = job,
            Machine = machine,
            Hash = Hash(secret),
            MadeBy = by,
            MadeAt = clock.Now(),
        };
        db.CheckInAddresses.Add(address);
        await db.SaveChangesAsync(cancel);
        await change.CommitAsync(cancel);
        known.Clear();
        return (address, secret);
    }

    public async Task<bool> TakeBackAsync(string job, string machine, CancellationToken cancel)
    {
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        var gone = await db.CheckInAddresses.Where(a => a.Job == job && a.Machine == machine).ExecuteDeleteAsync(cancel);
        known.Clear();
        return gone > 0;
    }

    /// <summary>Whose address it is; null for one that is not in use. Late by a few seconds where another service took it back.</summary>
    public async Task<(long Id, string Job, string Machine)?> OfAsync(string secret, CancellationToken cancel)
    {
        if (secret.Length != 40 || !secret.All(char.IsAsciiHexDigitLower))
            return null;
        if (known.TryGetValue(secret, out var kept) && System.Diagnostics.Stopwatch.GetElapsedTime(kept.ReadAt) < Keeps)
            return (kept.Id, kept.Job, kept.Machine);
        var hash = Hash(secret);
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        if (await db.CheckInAddresses.AsNoTracking().FirstOrDefaultAsync(a => a.Hash == hash, cancel) is not { } address)
        {
            known.TryRemove(secret, out _);
            return null;
        }
        if (known.Count > MostKept)
            known.Clear();
        var stamp = System.Diagnostics.Stopwatch.GetTimestamp();
        known.AddOrUpdate(
            secret,
            _ => new Known(address.Id, address.Job, address.Machine, stamp),
            (_, k) =>
            {
                k.ReadAt = stamp;
                return k;
            }
        );
        return (address.Id, address.Job, address.Machine);
    }

    /// <summary>Whether an address may say something now: one a second, and so many at once after a silence.</summary>
    public bool MaySpeak(string secret)
    {
        if (!known.TryGetValue(secret, out var at))
            return true;
        lock (at)
        {
            var stamp = System.Diagnostics.Stopwatch.GetTimestamp();
            at.Saved = Math.Min(AtOnce, at.Saved + System.Diagnostics.Stopwatch.GetElapsedTime(at.At, stamp).TotalSeconds * PerSecond);
            at.At = stamp;
            if (at.Saved < 1)
                return false;
            at.Saved--;
            return true;
        }
    }

    private static byte[] Hash(string secret) => SHA256.HashData(Encoding.UTF8.GetBytes(secret));
}

/// <summary>
/// What a request to a check-in address says: by its path (start, ok, failed, or an exit code), its query (figures) and its body (the end
/// of the log).
/// </summary>
internal static class SpokenCheckIn
{
    /// <summary>Of a log so much is kept, its end (bytes).</summary>
    public const int MostLog = 64 * 1024;

    /// <summary>A request with more than this is not read to its end (bytes).</summary>
    public const long MostBody = 1024L * 1024 * 1024;

    public static (CheckInState State, int? Code)? Read(string what) =>
        what switch
        {
            "start" => (CheckInState.Started, null),
            "" or "ok" => (CheckInState.Ended, 0),
            "failed" => (CheckInState.Ended, 1),
            _ => int.TryParse(what, NumberStyles.None, CultureInfo.InvariantCulture, out var code) && code <= 255
                ? (CheckInState.Ended, code)
                : null,
        };

    /// <summary>
    /// Figures from the query: whole numbers, and seconds; what is none of them is left out, for a script must not fail because of it.
    /// </summary>
    public static CheckInFigures? Figures(IQueryCollection query)
    {
        var figures = new CheckInFigures(
            Whole("items"),
            Whole("bytes"),
            double.TryParse(query["seconds"], NumberStyles.AllowDecimalPoint, CultureInfo.InvariantCulture, out var s) ? s : null,
            Whole("skipped"),
            Whole("errors")
        );
        return figures == new CheckInFigures() ? null : figures;

        long? Whole(string name) => long.TryParse(query[name], NumberStyles.None, CultureInfo.InvariantCulture, out var n) ? n : null;
    }

    /// <summary>The end of the body as text, and whether there was more before it.</summary>
    public static async Task<(string? Log, bool Cut)> LogAsync(HttpRequest request, CancellationToken cancel)
    {
        if (request.ContentLength is 0 || HttpMethods.IsGet(request.Method) || HttpMethods.IsHead(request.Method))
            return (null, false);
        if (
            request.HttpContext.Features.Get<Microsoft.AspNetCore.Http.Features.IHttpMaxRequestBodySizeFeature>() is
            { IsReadOnly: false } most
        )
            most.MaxRequestBodySize = MostBody;
        var kept = new byte[2 * MostLog];
        var (length, cut) = (0, false);
        while (await request.Body.ReadAsync(kept.AsMemory(length), cancel) is > 0 and var read)
        {
            if ((length += read) < kept.Length)
                continue;
            kept.AsSpan(length - MostLog, MostLog).CopyTo(kept);
            (length, cut) = (MostLog, true);
        }
        if (length == 0)
            return (null, false);
        var from = Math.Max(0, length - MostLog);
        var decoder = new Core.Watching.Logs.LogDecoder();
        var text = new char[Core.Watching.Logs.LogDecoder.MostOf(MostLog)];
        return (new string(text, 0, decoder.Decode(kept.AsSpan(from, length - from), text)), cut || from > 0);
    }
}
