using IronKeep.Contracts;
using IronKeep.Service.Basics;
using Microsoft.AspNetCore.Http.HttpResults;

namespace IronKeep.Service.Definitions;

/// <summary>The folders of the service's machine, for whoever chooses one: names alone, nothing of what is in files.</summary>
public static class FolderEndpoints
{
    private const int Most = 1_000;

    /// <summary>A mount that hangs must not keep whoever asks waiting.</summary>
    private static readonly TimeSpan LongEnough = TimeSpan.FromSeconds(5);

    /// <summary>At most so many looks at once: one that hangs holds a thread until its mount answers.</summary>
    private static readonly SemaphoreSlim Looking = new(4);

    public static void MapFolders(this IEndpointRouteBuilder api) =>
        api.MapGet("/folders", LookAsync).WithSummary("The folders in a folder of the service's machine, to choose one from");

    private static async Task<Results<Ok<MachineFolderAnswer>, ProblemHttpResult>> LookAsync(CancellationToken cancel, string path = "/")
    {
        if (!path.StartsWith('/') || path.Contains('\0', StringComparison.Ordinal))
            return Problems.Invalid($"'{path}' is not an absolute path on the service's machine; begin it with '/'");
        if (!await Looking.WaitAsync(LongEnough, cancel))
            return Problems.Refused("several folders do not answer; look at the mounts of the service's machine");
        var look = Task.Factory.StartNew(
            () =>
            {
                try
                {
                    return Look(Path.GetFullPath(path));
                }
                finally
                {
                    Looking.Release();
                }
            },
            CancellationToken.None,
            TaskCreationOptions.LongRunning,
            TaskScheduler.Default
        );
        try
        {
            return TypedResults.Ok(await look.WaitAsync(LongEnough, cancel));
        }
        catch (TimeoutException)
        {
            _ = look.ContinueWith(t => t.Exception, TaskScheduler.Default);
            return Problems.Refused($"'{path}' does not answer; look at its disk or its mount");
        }
        catch (DirectoryNotFoundException)
        {
            return Problems.NotFound($"there is no folder '{path}' on the service's machine");
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            return Problems.Refused($"'{path}' cannot be looked at: {e.Message}");
        }
    }

    private static MachineFolderAnswer Look(string path)
    {
        // Links are left out: what is behind one is taken by its own path.
        var names = new DirectoryInfo(path)
            .EnumerateDirectories(
                "*",
                new EnumerationOptions { AttributesToSkip = FileAttributes.ReparsePoint, IgnoreInaccessible = false }
            )
            .Select(d => d.Name)
            .Where(n => !n.Contains('\uFFFD', StringComparison.Ordinal))
            .Take(Most + 1)
            .Order(StringComparer.Ordinal)
            .ToList();
        return new MachineFolderAnswer(path, Path.GetDirectoryName(path), [.. names.Take(Most)], names.Count > Most);
    }
}
