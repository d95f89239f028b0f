using System.Diagnostics;

namespace IronKeep.Runs.Tests;

/// <summary>Compares trees with the system's own tools, so that the product is not its own referee.</summary>
internal static class Listing
{
    /// <summary>Type, mode, owner, size, modification time to the nanosecond, link target and name of everything below a folder.</summary>
    public static string Of(string folder) =>
        Shell(
            "find . -mindepth 1 \\( -type d -printf '%y %m %U %G - %T@ %p\\n' \\) -o -printf '%y %m %U %G %s %T@ %l %p\\n' | LC_ALL=C sort",
            folder
        );

    /// <summary>What diff says about two trees; empty when they are the same.</summary>
    public static string Diff(string a, string b) =>
        Shell($"diff -r --no-dereference '{a}' '{b}' | grep -v 'is a fifo while' || true", "/");

    public static string Shell(string command, string folder)
    {
        using var process = Process.Start(
            new ProcessStartInfo("/bin/bash", ["-c", command])
            {
                WorkingDirectory = folder,
                RedirectStandardOutput = true,
                RedirectStandardError = true,
            }
        )!;
        var error = process.StandardError.ReadToEndAsync();
        var output = process.StandardOutput.ReadToEnd();
        process.WaitForExit();
        return output + error.Result;
    }
}
