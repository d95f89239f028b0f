using System.Diagnostics;
using System.Text.Json;

namespace IronKeep.EndToEnd.Tests;

/// <summary>An encrypted store when the service and its catalogue are lost: read without them, then attached to a new service.</summary>
public sealed class RescueProgramTests : IDisposable
{
    private readonly Programs programs = new();

    public void Dispose() => programs.Dispose();

    private string Key => programs.Root + "/vault.key";
    private string Phrase => programs.Root + "/passphrase";
    private string Vault => programs.Root + "/vault";

    [Fact]
    public async Task A_store_outlives_its_service_and_is_attached_to_the_next()
    {
        await File.WriteAllBytesAsync(Key, System.Security.Cryptography.RandomNumberGenerator.GetBytes(32));
        File.SetUnixFileMode(Key, UnixFileMode.UserRead | UnixFileMode.UserWrite);
        Directory.CreateDirectory(programs.Source + "/rings");
        await File.WriteAllTextAsync(programs.Source + "/rings/2026.csv", "ring,species\n");
        await File.WriteAllTextAsync(programs.Source + "/notes", "first");
        await programs.BeginAsync();
        await OkAsync("definition", "set", "store", "vault", $"folder={Vault}", $"key-file={Key}", "--new");
        await OkAsync("definition", "set", "job", "by-hand", "into=vault");
        await OkAsync("job", "run", "by-hand");
        await File.WriteAllTextAsync(programs.Source + "/notes", "second");
        await OkAsync("job", "run", "by-hand");

        // Through the service: an archive to standard output, and one by a run; the keys.
        var tar = programs.Root + "/copy.tar";
        Assert.Equal(
            0,
            await ShellAsync(
                $"dotnet '{Client}' copy export newest:by-hand '{programs.Source}/notes' --tar - > '{tar}' && tar xOf '{tar}' > "
                    + $"'{tar}.out' && grep -qx second '{tar}.out'"
            )
        );
        await OkAsync("copy", "export", "newest:by-hand", "--bag", programs.Root + "/bag");
        Assert.Equal(0, await ShellAsync($"cd '{programs.Root}/bag' && sha256sum --quiet -c manifest-sha256.txt"));
        var keys = await JsonAsync("store", "key", "list", "vault");
        Assert.True(keys[0].GetProperty("usedByService").GetBoolean());
        var sheet = programs.Root + "/sheet";
        Assert.Contains(
            "print " + sheet,
            (await OkAsync("store", "key", "add", "vault", "--label", "in the safe", "--recovery-sheet", sheet)).Out
        );
        Assert.Equal(
            3,
            (await programs.ClientAsync("store", "key", "add", "vault", "--label", "x", "--new-passphrase-file", Key)).ExitCode
        );
        // Typed from paper: small letters, O for 0, in one line; elsewhere the sheet is given as it is.
        await File.WriteAllTextAsync(
            sheet + ".code",
            string.Concat((await File.ReadAllLinesAsync(sheet)).Where(l => l.Count(c => c == '-') == 3 && l.Trim().Length == 35))
                .ToLowerInvariant()
                .Replace('0', 'o')
        );

        // The machine's disk is lost, the store is not.
        Assert.Equal(0, await programs.StopAsync());
        Directory.Delete(programs.DataFolder, true);
        Assert.Equal(3, (await programs.ClientAsync("rescue", Vault, "list")).ExitCode);
        var listed = await JsonAsync("rescue", Vault, "list", "--key-file", Key);
        var (oldest, newest) = (listed[0].GetProperty("id").GetString()!, listed[1].GetProperty("id").GetString()!);
        Assert.Contains(
            "2026.csv",
            (await OkAsync("rescue", Vault, "browse", "newest", programs.Source + "/rings", "--recovery-file", sheet + ".code")).Out
        );
        Assert.Contains("2 ", (await OkAsync("rescue", Vault, "find", "*.csv", "--key-file", Key)).Out);
        Assert.Contains("2 copies whole, 0 hurt", (await OkAsync("rescue", Vault, "verify", "--deep", "--key-file", Key)).Out);
        await OkAsync("rescue", Vault, "restore", oldest, "--to", programs.Root + "/old", "--key-file", Key);
        Assert.Equal("first", await File.ReadAllTextAsync(programs.Root + "/old" + programs.Source + "/notes"));
        await OkAsync(
            "rescue",
            Vault,
            "export",
            newest,
            programs.Source + "/notes",
            "--tar",
            programs.Root + "/one.tar.zst",
            "--key-file",
            Key
        );
        Assert.Equal(0, await ShellAsync($"zstd -dqc '{programs.Root}/one.tar.zst' | tar xO | grep -qx second"));
        Assert.Equal(
            4,
            (
                await programs.ClientAsync("rescue", Vault, "export", newest, "--tar", programs.Root + "/one.tar.zst", "--key-file", Key)
            ).ExitCode
        );

        // In the folder: a passphrase goes in, the key file out.
        await File.WriteAllTextAsync(Phrase, "knots come with the flood");
        File.SetUnixFileMode(Phrase, UnixFileMode.UserRead | UnixFileMode.UserWrite);
        await OkAsync("store", "key", "add", Vault, "--label", "the second", "--new-passphrase-file", Phrase, "--recovery-file", sheet);
        var first = (await JsonAsync("store", "key", "list", Vault, "--key-file", Key))[0].GetProperty("id").GetString()!;
        await OkAsync("store", "key", "withdraw", Vault, first, "--key-file", Key);
        var refused = await programs.ClientAsync("rescue", Vault, "list", "--key-file", Key);
        Assert.Equal(3, refused.ExitCode);
        Assert.Contains("does not open the store", refused.Error);

        // A new service learns from the store all that there is to know.
        await programs.BeginAsync();
        Assert.Contains("is encrypted", (await programs.ClientAsync("store", "attach", Vault)).Error);
        Assert.Contains("2 copies, 2 of them new", (await OkAsync("store", "attach", Vault, "--passphrase-file", Phrase)).Out);
        Assert.Contains("is sound", (await OkAsync("store", "check", "vault", "--depth", "deep")).Out);
        await OkAsync("copy", "restore", newest, "--to", programs.Root + "/new");
        Assert.Equal("second", await File.ReadAllTextAsync(programs.Root + "/new" + programs.Source + "/notes"));
        Assert.DoesNotContain("flood", programs.ServiceOutput);

        // One bit is turned: reading without the service names what is lost.
        Assert.Equal(0, await programs.StopAsync());
        foreach (
            var pack in Directory
                .EnumerateFiles(Vault + "/packs", "*", SearchOption.AllDirectories)
                .Where(p => File.ReadAllBytes(p)[8] == 1)
        )
        {
            var bytes = await File.ReadAllBytesAsync(pack);
            bytes[60] ^= 1;
            await File.WriteAllBytesAsync(pack, bytes);
        }
        var hurt = await programs.ClientAsync("rescue", Vault, "verify", "--passphrase-file", Phrase);
        Assert.Equal(1, hurt.ExitCode);
        Assert.Contains(programs.Source + "/notes", hurt.Out);
    }

    private static string Client => Programs.PathOf("ironkeep");

    private async Task<int> ShellAsync(string command)
    {
        var start = new ProcessStartInfo("/bin/bash", ["-c", command]);
        programs.Surround(start);
        using var process = Process.Start(start)!;
        await process.WaitForExitAsync();
        return process.ExitCode;
    }

    private async Task<JsonElement> JsonAsync(params string[] args) =>
        JsonSerializer.Deserialize<JsonElement>((await OkAsync([.. args, "--output", "json"])).Out);

    private async Task<Said> OkAsync(params string[] args)
    {
        var said = await programs.ClientAsync(args);
        Assert.True(said.ExitCode == 0, $"{string.Join(' ', args)}: {said}");
        return said;
    }
}
