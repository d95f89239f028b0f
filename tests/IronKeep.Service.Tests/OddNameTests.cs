using System.Diagnostics;
using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Quantities;
using IronKeep.Core.Watching;

namespace IronKeep.Service.Tests;

public sealed class OddNameTests
{
    [Fact]
    public async Task Names_that_are_not_text_are_shown_browsed_and_restored_through_the_API()
    {
        await using var bench = await Bench.StartAsync();
        using (
            var shell = Process.Start(
                new ProcessStartInfo(
                    "/bin/bash",
                    ["-c", "mkdir $'d\\xfe'; printf x > $'d\\xfe/new\\nline'; printf y > 'back\\slash'; printf z > 'ordinary'"]
                )
                {
                    WorkingDirectory = bench.Source,
                }
            )!
        )
            await shell.WaitForExitAsync();
        await bench.ApplyAsync(bench.Charter());
        var run = await bench.BackUpAsync();
        var top = await bench.GetAsync<FolderAnswer>($"copies/{run.CopyId}/entries");
        Assert.Equal([@"back\\slash", @"d\xfe", "ordinary"], top.Entries.Select(e => e.Name));
        var inner = await bench.GetAsync<FolderAnswer>($"copies/{run.CopyId}/entries?path={Uri.EscapeDataString(top.Path + @"/d\xfe")}");
        Assert.Equal(@"new\x0aline", Assert.Single(inner.Entries).Name);

        // The shown path is the way to ask for it back.
        var restore = await bench.RunAsync(
            $"copies/{run.CopyId}/restores",
            new RestoreRequest([$@"{inner.Path}/new\x0aline", top.Path + @"/back\\slash"], bench.Root + "/back")
        );
        Assert.Equal("ok", restore.Outcome.Word());
        using var listing = Process.Start(
            new ProcessStartInfo(
                "/bin/bash",
                ["-c", $"cd '{bench.Root}/back{bench.Source}' && find . -type f -print0 | LC_ALL=C sort -z | od -An -c | tr -d ' \\n'"]
            )
            {
                RedirectStandardOutput = true,
            }
        )!;
        Assert.Equal(@"./back\slash\0./d376/new\nline\0", (await listing.StandardOutput.ReadToEndAsync()).Trim());
    }
}
