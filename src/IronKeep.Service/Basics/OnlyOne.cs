using System.Globalization;
using IronKeep.Catalogue;
using IronKeep.Stores.Posix;

namespace IronKeep.Service.Basics;

/// <summary>Keeps a second service away from the same data folder: two clocks over one catalogue would serve everything twice.</summary>
public sealed class OnlyOne : IDisposable
{
    private readonly FileStream claim;

    private OnlyOne(FileStream claim, string? tightened) => (this.claim, Tightened) = (claim, tightened);

    /// <summary>What was open to others and is no more, in words; null when nothing was.</summary>
    public string? Tightened { get; }

    /// <summary>Claims the data folder, or throws <see cref="StartRefusedException"/> naming who has it.</summary>
    public static OnlyOne Claim(string dataFolder)
    {
        try
        {
            Directory.CreateDirectory(dataFolder, OwnFiles.Folder);
            var tightened = OwnFiles.TightenFolder(dataFolder);
            var claim = new FileStream(
                Path.Combine(dataFolder, "service.lock"),
                FileMode.OpenOrCreate,
                FileAccess.ReadWrite,
                FileShare.None
            );
            File.WriteAllText(PidFile(dataFolder), Environment.ProcessId.ToString(CultureInfo.InvariantCulture));
            return new OnlyOne(claim, tightened);
        }
        catch (IOException e) when (e.HResult == 11)
        {
            var holder = File.Exists(PidFile(dataFolder)) ? File.ReadAllText(PidFile(dataFolder)) : "unknown";
            throw new StartRefusedException(
                $"another Iron Keep service (process {holder}) already works on the catalogue in {dataFolder}; stop it first, or give this "
                    + $"one a data folder of its own with --IronKeep:DataFolder"
            );
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            throw new StartRefusedException(
                $"the data folder {dataFolder} cannot be used: {e.Message}; make it writable for the service, or name another with "
                    + $"--IronKeep:DataFolder"
            );
        }
    }

    public void Dispose() => claim.Dispose();

    private static string PidFile(string dataFolder) => Path.Combine(dataFolder, "service.pid");
}

/// <summary>The service cannot start, for a reason that a person can mend; the message says how.</summary>
public sealed class StartRefusedException(string message) : Exception(message);
