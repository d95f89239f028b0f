using System.Text;
using IronKeep.Core.Machines;
using IronKeep.Stores.Posix;
using IronKeep.Yaml;

namespace IronKeep.Runs.Steps;

/// <summary>The file in which a machine lists the commands that it lets a service order; read anew each time.</summary>
public sealed class AllowedFile(string path)
{
    public const string Usual = "/etc/ironkeep/agent.yaml";
    private const long Most = 1024 * 1024;

    public string Path => path;

    /// <summary>
    /// What it allows; nothing where there is no file. One that is not understood, or that others than root and our own user may change, is
    /// an <see cref="IOException"/>.
    /// </summary>
    public AllowedCommands Read()
    {
        try
        {
            using var folder = OpenFolder.AtPath(System.IO.Path.GetDirectoryName(path)!);
            if (folder.Facts(Encoding.UTF8.GetBytes(System.IO.Path.GetFileName(path))) is not { } file)
                return AllowedCommands.None;
            if (file.Kind != EntryKind.File || file.Size > Most)
                throw new IOException($"{path} is no file, or too large a one; put the file itself there");
            if (!OwnFiles.IsOurs(file) || !OwnFiles.IsOurs(folder.Facts()))
                throw new IOException($"others than root may change {path} or its folder; take that right away: chown root, chmod go-w");
        }
        catch (PosixException e) when (e.NotFound)
        {
            return AllowedCommands.None;
        }
        string text;
        try
        {
            text = File.ReadAllText(path);
        }
        catch (UnauthorizedAccessException e)
        {
            throw new IOException($"{path} cannot be read: {e.Message}", e);
        }
        var (root, problem) = CharterYaml.ReadNodes(text);
        if (root is null)
            throw new IOException($"{path}, line {problem!.Line}: {problem.Message}");
        var (allowed, mistakes) = AllowedCommands.Read(root);
        return allowed ?? throw new IOException($"{path}, line {mistakes[0].Line}: {mistakes[0].Message}");
    }
}
