using System.Text.Json;

namespace IronKeep.Cli.Client;

/// <summary>The address and token of the last sign-in, in a file that only its owner can read.</summary>
internal sealed record Credentials(string Url, string Token)
{
    public static string FileName =>
        Path.Combine(
            Environment.GetEnvironmentVariable("XDG_CONFIG_HOME") is { Length: > 0 } xdg
                ? xdg
                : Path.Combine(Environment.GetFolderPath(Environment.SpecialFolder.UserProfile), ".config"),
            "ironkeep",
            "client.json"
        );

    public static Credentials? Read()
    {
        try
        {
            return File.Exists(FileName) ? JsonSerializer.Deserialize(File.ReadAllText(FileName), ClientContext.Default.Credentials) : null;
        }
        catch (Exception e) when (e is JsonException or IOException or UnauthorizedAccessException)
        {
            throw new AnswerException(
                Root.Failed,
                $"the sign-in in {FileName} cannot be read ({e.Message}); remove the file and sign in again"
            );
        }
    }

    public void Save()
    {
        Directory.CreateDirectory(Path.GetDirectoryName(FileName)!);
        File.Delete(FileName);
        using var file = new FileStream(
            FileName,
            new FileStreamOptions
            {
                Mode = FileMode.CreateNew,
                Access = FileAccess.Write,
                UnixCreateMode = UnixFileMode.UserRead | UnixFileMode.UserWrite,
            }
        );
        JsonSerializer.Serialize(file, this, ClientContext.Default.Credentials);
    }
}
