using System.Text;
using IronKeep.Stores.Posix;

namespace IronKeep.Stores.Restores;

/// <summary>
/// Opens the folder that something is to be written to, and makes what is missing of it: judged by where it really leads, before anything
/// is made.
/// </summary>
internal static class TargetFolder
{
    /// <summary>The opened folder. A path into a forbidden one is an <see cref="IOException"/>.</summary>
    public static OpenFolder Open(string path, ForbiddenFolders? forbidden)
    {
        var missing = new Stack<string>();
        var at = path.Length > 1 ? path.TrimEnd('/') : path;
        if (at.Length == 0)
            at = "/";
        OpenFolder folder;
        while (true)
        {
            try
            {
                folder = OpenFolder.AtPath(at);
                break;
            }
            catch (PosixException e) when (e.Error == PosixException.Missing && at.TrimEnd('/').Length > 0)
            {
                var slash = at.LastIndexOf('/');
                missing.Push(at[(slash + 1)..]);
                at =
                    slash < 0 ? "."
                    : slash == 0 ? "/"
                    : at[..slash];
            }
        }
        try
        {
            if (forbidden?.Reason(folder.RealPath()) is { } why)
                throw new IOException($"{path} cannot be written to: {why}");
            foreach (var name in missing.Where(n => n.Length > 0))
            {
                if (name is "." or "..")
                    throw new IOException(
                        $"{path} cannot be made: '{name}' stands behind a folder that does not exist; write the path without it"
                    );
                var bytes = Encoding.UTF8.GetBytes(name);
                try
                {
                    folder.MakeFolder(bytes);
                }
                catch (PosixException e) when (e.Exists)
                {
                    // Somebody else was faster; a link is not entered.
                }
                var next = folder.Enter(bytes);
                folder.Dispose();
                folder = next;
            }
            return folder;
        }
        catch
        {
            folder.Dispose();
            throw;
        }
    }
}
