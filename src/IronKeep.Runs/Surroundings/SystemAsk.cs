using System.ComponentModel;
using System.Diagnostics;

namespace IronKeep.Runs.Surroundings;

/// <summary>Asks a program of the system, for a few seconds, with clean surroundings; what it says is bounded.</summary>
internal static class SystemAsk
{
    private const int MostSaid = 64 * 1024;
    private static readonly TimeSpan Most = TimeSpan.FromSeconds(5);
    private static readonly string[] Folders = ["/usr/bin", "/bin", "/usr/sbin"];

    /// <summary>What it wrote; null: there is no such program, it failed, or it did not answer.</summary>
    public static string? Ask(string program, string[] words)
    {
        if (Folders.Select(f => Path.Combine(f, program)).FirstOrDefault(File.Exists) is not { } path)
            return null;
        try
        {
            using var process = new Process
            {
                StartInfo = new ProcessStartInfo(path, words)
                {
                    RedirectStandardOutput = true,
                    RedirectStandardError = true,
                    RedirectStandardInput = true,
                    WorkingDirectory = "/",
                },
            };
            process.StartInfo.Environment.Clear();
            process.StartInfo.Environment["PATH"] = "/usr/sbin:/usr/bin:/sbin:/bin";
            process.StartInfo.Environment["LC_ALL"] = "C.UTF-8";
            process.Start();
            process.StandardInput.Close();
            process.ErrorDataReceived += (_, _) => { };
            process.BeginErrorReadLine();
            var said = Task.Run(() =>
            {
                var buffer = new char[MostSaid];
                return new string(buffer, 0, process.StandardOutput.ReadBlock(buffer));
            });
            if (said.Wait(Most) && process.WaitForExit(Most))
                return process.ExitCode == 0 ? said.Result : null;
            process.Kill(entireProcessTree: true);
            return null;
        }
        catch (Exception e) when (e is Win32Exception or InvalidOperationException or IOException or AggregateException)
        {
            return null;
        }
    }
}
