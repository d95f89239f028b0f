using System.Diagnostics;
using System.Security.Cryptography;
using IronKeep.Service.Basics;

namespace IronKeep.Demo;

/// <summary>The observatory's ticket desk as a program of its own, which ends with this one.</summary>
internal sealed class DeskProcess : IDisposable
{
    private readonly Process process;

    private DeskProcess(Process process, string address) => (this.process, Address) = (process, address);

    public string Address { get; }

    /// <summary>Begins it with a folder for its tickets; the key that it asks for is written into a file for the service as well.</summary>
    public static async Task<DeskProcess> BeginAsync(string folder, string tokenFile)
    {
        Directory.CreateDirectory(folder);
        var key = Convert.ToHexStringLower(RandomNumberGenerator.GetBytes(16));
        foreach (var file in new[] { $"{folder}/desk.key", tokenFile })
        {
            var mine = new FileStreamOptions
            {
                Mode = FileMode.CreateNew,
                Access = FileAccess.Write,
                UnixCreateMode = UnixFileMode.UserRead | UnixFileMode.UserWrite,
            };
            await using var writer = new StreamWriter(file, mine);
            await writer.WriteLineAsync(key);
        }
        var start = new ProcessStartInfo("dotnet") { RedirectStandardInput = true, RedirectStandardOutput = true };
        foreach (var word in new[] { Path.Combine(AppContext.BaseDirectory, "saltmere-desk.dll"), folder, "--urls", "http://127.0.0.1:0" })
            start.ArgumentList.Add(word);
        var process = Process.Start(start)!;
        string? address = null;
        try
        {
            address = await process.StandardOutput.ReadLineAsync().WaitAsync(TimeSpan.FromMinutes(1));
        }
        catch (TimeoutException)
        {
            process.Kill();
        }
        return address is null
            ? throw new StartRefusedException("the ticket desk of the demo did not start within a minute; start the demo again")
            : new DeskProcess(process, address);
    }

    public void Dispose()
    {
        process.StandardInput.Close();
        process.WaitForExit(5000);
        process.Dispose();
    }
}
