using System.Globalization;
using System.Text;

namespace IronKeep.Demo;

/// <summary>Makes the observatory's data and lets days pass over it. All of it is made up, from a fixed seed.</summary>
internal sealed class SaltmereData(string root)
{
    private static readonly string[] Species =
    [
        "reed warbler",
        "sedge warbler",
        "bearded tit",
        "water rail",
        "bar-tailed godwit",
        "knot",
        "curlew",
        "little tern",
        "avocet",
        "ringed plover",
        "wheatear",
        "goldcrest",
    ];

    private readonly Random random = new(4711);
    private int ring = 41_000;

    public string Root => root;

    /// <summary>What was there before the first night.</summary>
    public void Begin(DateOnly today)
    {
        for (var year = today.Year - 6; year < today.Year; year++)
            Write($"ringing-register/{year}.csv", Register(1_400, new DateOnly(year, 3, 1)), today.AddDays(-30));
        Write("ringing-register/methods/handling notes.txt", "Weigh before ringing. Note the wind.\n", today.AddDays(-300));
        Link("ringing-register/current.csv", $"{today.Year}.csv");
        for (var i = 0; i < 40; i++)
            Write(
                $"web-site/species/{Species[i % Species.Length].Replace(' ', '-')}-{i / Species.Length}.html",
                Page(i),
                today.AddDays(-90)
            );
        for (var i = 0; i < 12; i++)
            Write($"web-site/images/hide-{i}.jpg", Picture(180_000), today.AddDays(-120));
        for (var i = 0; i < 6; i++)
            Write($"call-recordings/archive/spring-{i:00}.wav", Recording(1_500_000), today.AddDays(-60));
        for (var day = -10; day < 0; day++)
            Pass(today.AddDays(day));
    }

    /// <summary>What lies on other machines: recordings of the birds that call at night, and pictures of specimens.</summary>
    public void Begin()
    {
        var today = DateOnly.FromDateTime(DateTime.UtcNow);
        for (var night = 1; night <= 8; night++)
            Write($"plover/night-calls/{today.AddDays(-night):yyyy-MM-dd} reedbed.wav", Recording(900_000), today.AddDays(-night));
        for (var i = 0; i < 20; i++)
            Write($"curlew/specimens/drawer-{i / 5 + 1}/{Species[i % Species.Length]}.jpg", Picture(60_000), today.AddDays(-40 - i));
    }

    /// <summary>One day's work at the stations.</summary>
    public void Pass(DateOnly day)
    {
        var stamp = day.ToString("yyyy-MM-dd", CultureInfo.InvariantCulture);
        Append($"ringing-register/{day.Year}.csv", Register(random.Next(8, 60), day), day);
        for (var i = 0; i < random.Next(6, 14); i++)
            Write(
                $"hide-cameras/{(i % 2 == 0 ? "north-hide" : "creek-hide")}/{stamp}/{i:000}.jpg",
                Picture(random.Next(60_000, 240_000)),
                day
            );
        Write($"hide-cameras/thumbnails/{stamp}.jpg", Picture(9_000), day);
        foreach (var old in Directory.EnumerateDirectories(Full("hide-cameras"), "20*", SearchOption.AllDirectories))
            if (string.CompareOrdinal(Path.GetFileName(old), day.AddDays(-20).ToString("yyyy-MM-dd", CultureInfo.InvariantCulture)) < 0)
                Directory.Delete(old, true);
        if (day.DayOfWeek is not DayOfWeek.Saturday)
            Write($"call-recordings/{day.Year}-{day.Month:00}/{stamp} dawn.wav", Recording(random.Next(700_000, 1_900_000)), day);
        Append($"tide/{day.Year}-{day.Month:00}.jsonl", Readings(stamp, "tide_m", 0.2, 6.1), day);
        Append($"weather/{day.Year}-{day.Month:00}.jsonl", Readings(stamp, "wind_ms", 0, 24), day);
        if (day.DayOfWeek is DayOfWeek.Tuesday or DayOfWeek.Friday)
            Write("web-site/index.html", $"<!doctype html><title>Saltmere</title><h1>Seen on {stamp}</h1>{Page(day.DayNumber)}", day);
    }

    private string Register(int birds, DateOnly day)
    {
        var text = new StringBuilder();
        for (var i = 0; i < birds; i++)
            text.Append(
                CultureInfo.InvariantCulture,
                $"S{ring++},{day:yyyy-MM-dd},{Species[random.Next(Species.Length)]},{random.Next(55, 240)},"
                    + $"{random.Next(80, 900) / 10.0:0.0}\n"
            );
        return text.ToString();
    }

    private string Readings(string day, string what, double low, double high)
    {
        var text = new StringBuilder();
        for (var minute = 0; minute < 24 * 60; minute += 10)
            text.Append(
                CultureInfo.InvariantCulture,
                $"{{\"at\":\"{day}T{minute / 60:00}:{minute % 60:00}Z\",\""
                    + $"{what}\":{low + (high - low) * (0.5 + 0.45 * Math.Sin(minute / 118.0) + 0.05 * random.NextDouble()):0.00}}}\n"
            );
        return text.ToString();
    }

    private static string Page(int seed) =>
        string.Concat(
            Enumerable
                .Range(0, 60)
                .Select(i =>
                    $"<p>Note {seed}-{i}: {Species[(seed + i * 7) % Species.Length]} along the "
                    + $"{(i % 3 == 0 ? "saltmarsh" : "shingle")}.</p>\n"
                )
        );

    private byte[] Picture(int size)
    {
        var bytes = new byte[size];
        random.NextBytes(bytes);
        return bytes;
    }

    // Sixteen-bit samples of a few tones and some hiss: shrinks somewhat, as recordings do.
    private byte[] Recording(int size)
    {
        var bytes = new byte[size & ~1];
        var tone = 0.02 + random.NextDouble() * 0.2;
        for (var i = 0; i < bytes.Length; i += 2)
        {
            var sample = (short)(6000 * Math.Sin(i * tone) * Math.Sin(i * 0.0001) + random.Next(-40, 40));
            bytes[i] = (byte)sample;
            bytes[i + 1] = (byte)(sample >> 8);
        }
        return bytes;
    }

    private string Full(string path) => Path.Combine(root, path);

    private void Write(string path, string text, DateOnly day) => Write(path, Encoding.UTF8.GetBytes(text), day);

    private void Write(string path, byte[] content, DateOnly day)
    {
        Directory.CreateDirectory(Path.GetDirectoryName(Full(path))!);
        File.WriteAllBytes(Full(path), content);
        Touch(path, day);
    }

    private void Append(string path, string text, DateOnly day)
    {
        Directory.CreateDirectory(Path.GetDirectoryName(Full(path))!);
        File.AppendAllText(Full(path), text);
        Touch(path, day);
    }

    private void Touch(string path, DateOnly day) =>
        File.SetLastWriteTimeUtc(Full(path), day.ToDateTime(new TimeOnly(11, random.Next(60), random.Next(60)), DateTimeKind.Utc));

    private void Link(string path, string target) => File.CreateSymbolicLink(Full(path), target);
}
