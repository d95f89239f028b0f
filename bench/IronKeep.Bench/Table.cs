using System.Diagnostics;
using System.Globalization;

namespace IronKeep.Bench;

/// <summary>Seconds of ours beside seconds of a yardstick in the same round; the ratio is what counts on a shared machine.</summary>
internal sealed class Table
{
    private readonly Dictionary<string, (string Yardstick, List<(double Ours, double Its)> Rounds)> rows = [];
    private readonly Dictionary<string, string> notes = [];

    public void Add(string what, double ours, string yardstick, double its)
    {
        if (!rows.TryGetValue(what, out var row))
            rows[what] = row = (yardstick, []);
        row.Rounds.Add((ours, its));
    }

    public void Note(string what, string value) => notes[what] = value;

    public void Print()
    {
        Console.WriteLine("| what | seconds | yardstick | seconds | time against it |");
        Console.WriteLine("|---|---|---|---|---|");
        foreach (var (what, (yardstick, rounds)) in rows)
            Console.WriteLine(
                string.Create(
                    CultureInfo.InvariantCulture,
                    $"| {what} | {Median(rounds.Select(r => r.Ours)):0.00} | `{yardstick}` | {Median(rounds.Select(r => r.Its)):0.00} | "
                        + $"{Median(rounds.Select(r => r.Ours / r.Its)):0.00} |"
                )
            );
        foreach (var (what, value) in notes)
            Console.WriteLine($"{what}: {value}");
    }

    private static double Median(IEnumerable<double> values)
    {
        var sorted = values.Order().ToList();
        return sorted[sorted.Count / 2];
    }
}

/// <summary>The yardsticks are commands.</summary>
internal static class Shell
{
    public static string Run(string command)
    {
        using var process = Process.Start(new ProcessStartInfo("/bin/bash", ["-c", command]) { RedirectStandardOutput = true })!;
        var output = process.StandardOutput.ReadToEnd();
        process.WaitForExit();
        return output.Trim();
    }

    public static double Time(string command)
    {
        var watch = Stopwatch.StartNew();
        Run(command);
        return watch.Elapsed.TotalSeconds;
    }
}
