using System.Collections.Concurrent;
using System.Net;
using IronKeep.Catalogue;
using IronKeep.Core.Watching;
using IronKeep.Service.Alerts;
using Microsoft.AspNetCore.DataProtection;

namespace IronKeep.Service.SignIn;

/// <summary>
/// Slows down whoever guesses passwords: after a few wrong ones each try at a name, and each from an address, waits longer, to a minute at
/// most. Nobody is locked out: a browser in which the person has signed in before is not kept waiting by what others try.
/// </summary>
public sealed class Guesses(TimeProvider clock, AlertBook alerts, IDataProtectionProvider protection, ILogger<Guesses> log)
{
    private const string KnownCookie = "ironkeep.known";
    private const int Free = 5,
        MostSeconds = 60,
        MostKept = 100_000,
        Many = 20;
    private static readonly TimeSpan Forgets = TimeSpan.FromHours(1);
    private static readonly Subject Self = Subject.OfService("sign-in");
    private readonly ConcurrentDictionary<string, Tries> tries = new();
    private readonly IDataProtector protector = protection.CreateProtector("ironkeep known browser");

    private sealed record Tries(int Count, long Last);

    /// <summary>How long a try has to wait still; zero when it may be made.</summary>
    public TimeSpan WaitOf(HttpContext http, string name)
    {
        if (IsKnown(http, name))
            return WaitOf($"known {Key(name)}");
        var (byName, byAddress) = (WaitOf($"name {Key(name)}"), WaitOf($"address {NetworkOf(http)}"));
        return byName > byAddress ? byName : byAddress;
    }

    public async Task FailedAsync(HttpContext http, string name, CancellationToken cancel)
    {
        log.LogWarning("A sign-in as '{Name}' from {Address} failed", Shown(name), http.Connection.RemoteIpAddress);
        if (tries.Count > MostKept)
            Tidy();
        if (IsKnown(http, name))
        {
            Count($"known {Key(name)}");
            return;
        }
        var counts = new[] { Count($"name {Key(name)}"), Count($"address {NetworkOf(http)}") };
        if (counts.Max() >= Many && (counts.Max() == Many || !await alerts.IsOpenAsync(Self, AlertClass.SignIns, cancel)))
            await alerts.RaiseAsync(
                new Matter(
                    Self,
                    AlertClass.SignIns,
                    $"{counts.Max()} sign-ins have failed within an hour, the last as '{Shown(name)}' from "
                        + $"{http.Connection.RemoteIpAddress}",
                    "If it is none of you, find out who tries from that address and keep it away; see 'ironkeep session list' for who is "
                        + "in. Close this when it is settled."
                ),
                cancel
            );
    }

    public void Succeeded(HttpContext http, string name)
    {
        tries.TryRemove($"name {Key(name)}", out _);
        tries.TryRemove($"known {Key(name)}", out _);
        http.Response.Cookies.Append(
            KnownCookie,
            protector.Protect(Key(name)),
            new CookieOptions
            {
                HttpOnly = true,
                SameSite = SameSiteMode.Strict,
                Secure = http.Request.IsHttps,
                MaxAge = TimeSpan.FromDays(180),
            }
        );
    }

    /// <summary>Who shares one bound on the cost of hashing: a network, or a browser that somebody has signed in with before.</summary>
    public string PartitionOf(HttpContext http)
    {
        try
        {
            return http.Request.Cookies[KnownCookie] is { } known ? "known " + protector.Unprotect(known) : NetworkOf(http);
        }
        catch (System.Security.Cryptography.CryptographicException)
        {
            return NetworkOf(http);
        }
    }

    private bool IsKnown(HttpContext http, string name)
    {
        try
        {
            return http.Request.Cookies[KnownCookie] is { } known && protector.Unprotect(known) == Key(name);
        }
        catch (System.Security.Cryptography.CryptographicException)
        {
            return false;
        }
    }

    private TimeSpan WaitOf(string key)
    {
        if (!tries.TryGetValue(key, out var at) || at.Count < Free)
            return TimeSpan.Zero;
        var passed = clock.GetElapsedTime(at.Last);
        if (passed > Forgets)
            return TimeSpan.Zero;
        var wait = TimeSpan.FromSeconds(Math.Min(MostSeconds, Math.Pow(2, Math.Min(10, at.Count - Free)))) - passed;
        return wait > TimeSpan.Zero ? wait : TimeSpan.Zero;
    }

    private int Count(string key) =>
        tries
            .AddOrUpdate(
                key,
                _ => new Tries(1, clock.GetTimestamp()),
                (_, t) => new Tries(clock.GetElapsedTime(t.Last) > Forgets ? 1 : t.Count + 1, clock.GetTimestamp())
            )
            .Count;

    private void Tidy()
    {
        foreach (var (key, at) in tries)
            if (clock.GetElapsedTime(at.Last) > Forgets || tries.Count > MostKept && at.Count < Free)
                tries.TryRemove(key, out _);
    }

    /// <summary>Everything of this machine is one address, and so is a network of IPv6, of which anybody has as many as he likes.</summary>
    private static string NetworkOf(HttpContext http)
    {
        if (http.Connection.RemoteIpAddress is not { } address || IPAddress.IsLoopback(address))
            return "this machine";
        if (address.IsIPv4MappedToIPv6)
            address = address.MapToIPv4();
        if (IPAddress.IsLoopback(address))
            return "this machine";
        return address.GetAddressBytes() is { Length: 16 } bytes ? Convert.ToHexString(bytes[..8]) : address.ToString();
    }

    private static string Key(string name) => name.Trim() is { Length: <= 200 } text ? text : "long";

    private static string Shown(string name) => new([.. name.Where(c => !char.IsControl(c)).Take(60)]);
}
