using System.Text;

namespace IronKeep.Stores.Posix;

/// <summary>A small file that is there whole, or as it was, whatever happens while it is written; for its owner alone.</summary>
public static class DurableFile
{
    /// <summary>
    /// Writes the file anew; it is on the disk under its name when this returns. Nothing that lies there is followed: a link is replaced.
    /// Throws <see cref="IOException"/> or <see cref="UnauthorizedAccessException"/>.
    /// </summary>
    public static void Write(string path, string content) => Write(path, Encoding.UTF8.GetBytes(content));

    /// <summary>The same for bytes.</summary>
    public static void Write(string path, ReadOnlySpan<byte> content)
    {
        var working = $"{path}.{Environment.ProcessId}.part";
        try
        {
            File.Delete(working);
            using (
                var file = new FileStream(
                    working,
                    new FileStreamOptions
                    {
                        Mode = FileMode.CreateNew,
                        Access = FileAccess.Write,
                        UnixCreateMode = UnixFileMode.UserRead | UnixFileMode.UserWrite,
                    }
                )
            )
            {
                file.Write(content);
                file.Flush(flushToDisk: true);
            }
            File.Move(working, path, overwrite: true);
            using var folder = OpenFolder.AtPath(Path.GetDirectoryName(Path.GetFullPath(path))!);
            folder.Flush();
        }
        catch
        {
            Quietly(working);
            throw;
        }
    }

    private static void Quietly(string working)
    {
        try
        {
            File.Delete(working);
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            // What keeps it from being written keeps it from being taken away.
        }
    }
}
